// Giving it away.
import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { answer, api, type InstrumentView, type Schemas } from "../api/client";
import { withOne } from "../model/sets";
import { forWaiting, megabytes } from "../model/units";
import { formatOf, KINDS, writingOf } from "../model/writing";
import { Choice } from "../parts/Choice";
import { Losses } from "../parts/Losses";
import { Made } from "../parts/Made";
import { Ticks } from "../parts/Ticks";
import { Written } from "../parts/Written";
import { change } from "../state/edits";
import { useExporting } from "../state/exporting";
import { exportsQuery } from "../state/queries";
import { usePending } from "../state/pending";
import { Editions } from "./Editions";
import { PresetsBeside } from "./PresetsBeside";
import { WritingChoices } from "./WritingChoices";
import { useSettings } from "../state/settings";
import { sayError, useView } from "../state/view";

/** What is brought goes out under the names that it came with. */
const firstRule = (view: InstrumentView) => (view.brought ? "{name}" : "{instrument} {name}");

export function ExportBench({ view }: { view: InstrumentView }) {
  const { choices, setChoices, rules, setRule, folders, setFolder } = useExporting();
  const [replace, setReplace] = useState(false);
  const [textsAlone, setTextsAlone] = useState(false);
  const folder = folders[view.id] ?? view.name;
  const [without, setWithout] = useState<ReadonlySet<number>>(new Set());
  const [withoutLayers, setWithoutLayers] = useState<ReadonlySet<string>>(new Set());
  const rule = rules[view.id] ?? firstRule(view);
  const isSoundFont = choices.kind === "sound_font2";
  const isPage = choices.kind === "page";
  const format = formatOf(choices.kind);
  // A SoundFont's own names are short, and its instrument has one of its own; files of a page are called by what is in them.
  const hasNames = !isSoundFont && !isPage;
  const exports = useQuery(exportsQuery(view.id));
  const { middleC } = useSettings();
  const layers = useMemo(() => layersOf(view.plan), [view.plan]);
  const wish: Schemas["NewExport"] = {
    ...writingOf(choices),
    names: hasNames ? rule : undefined,
    middle_c: middleC,
    without: [...without],
    without_layers: layers.filter(({ value }) => withoutLayers.has(value)).map(({ pass, layer }) => ({ pass, layer })),
    as_recorded: choices.kind === "audio" && choices.raw,
  };
  const hasTexts = choices.kind === "sfz" || choices.kind === "sfz_flac";
  const into = choices.into === "folder" ? { folder, replace, texts_alone: hasTexts && textsAlone } : undefined;
  const preview = useQuery({
    queryKey: ["instrument", view.id, "preview", wish],
    queryFn: async () => answer(await api.POST("/api/instruments/{id}/exports/preview", { params: { path: { id: view.id } }, body: wish })),
    placeholderData: (before: Schemas["Preview"] | undefined) => before,
    retry: false,
  });
  const { heardAs, setHeardAs } = useView();
  const [pending, begin] = usePending();
  const write = async () => {
    answer(await api.POST("/api/instruments/{id}/exports", { params: { path: { id: view.id } }, body: { ...wish, into } }));
    setReplace(false);
    await exports.refetch();
  };
  const strands = view.program.strands;
  const regions = view.program.regions.filter(({ key }) => !without.has(key.strand)).length;
  const missing = view.takes.filter((t) => t.chosen && !t.treatment && !t.origin.as_made).length;
  const losses = preview.data?.losses;
  const say = (fact: "credits" | "licence", text: string) =>
    void change(view.id, fact === "credits" ? "say who made it" : "say what may be done with it", [
      { fact, value: text.trim() === "" ? undefined : text },
    ]).catch(sayError);
  return (
    <>
      <div>
        <h2 className="text-[17px] font-semibold">Export</h2>
        <p className="text-ink3">
          {regions} regions go out{missing > 0 ? `; ${missing} takes are still being measured` : ""}.
        </p>
      </div>
      <div className="card grid grid-cols-[1.6fr_1fr_1fr_1fr] items-end gap-3 p-3">
        <WritingChoices kinds={KINDS} choices={choices} onChange={setChoices} />
        {hasNames && (
          <Written
            place="col-span-2"
            label="Names of the files"
            value={rule}
            onKeep={(text) => setRule(view.id, text.trim() === "" ? firstRule(view) : text)}
            title="{instrument} {name} {strand} {note} {key} {layer} {strike} {rr} are filled in"
          />
        )}
        <Written
          place={hasNames ? "" : "col-span-2"}
          label="Credits"
          value={view.program.credits ?? ""}
          onKeep={(text) => say("credits", text)}
          placeholder="who made it"
        />
        <Written
          place={hasNames ? "" : "col-span-2"}
          label="Licence"
          value={view.program.licence ?? ""}
          onKeep={(text) => say("licence", text)}
          placeholder="terms of use"
        />
        {strands.length > 1 && (
          <Ticks
            label="Strands that go out"
            all={strands.map(({ id, name }) => ({ value: id, name }))}
            isOn={(id) => !without.has(id)}
            onTick={(id, isOn) => setWithout(withOne(without, id, !isOn))}
          />
        )}
        {layers.length > 1 && (
          <Ticks
            label="Layers that go out"
            all={layers}
            isOn={(layer) => !withoutLayers.has(layer)}
            onTick={(layer, isOn) => setWithoutLayers(withOne(withoutLayers, layer, !isOn))}
          />
        )}
        {choices.kind === "audio" && (
          <label
            className="col-span-full flex items-center gap-1"
            title="Not trimmed, faded or levelled; roots and loops are inside all the same"
          >
            <input type="checkbox" checked={choices.raw} onChange={(event) => setChoices({ ...choices, raw: event.target.checked })} />
            Recordings whole, as they were made
          </label>
        )}
        <Choice
          label="Where to"
          value={choices.into}
          onChange={(next) => setChoices({ ...choices, into: next })}
          options={[
            { value: "file", name: "a file to download" },
            { value: "folder", name: "a folder on the server" },
          ]}
        />
        {into && (
          <>
            <Written label="Folder" value={folder} onKeep={(text) => setFolder(view.id, text.trim() || view.name)} />
            <label
              className="flex items-center gap-1 self-center pt-4"
              title="Files that were changed since, or put there, are told otherwise, and nothing is written"
            >
              <input type="checkbox" checked={replace} onChange={(event) => setReplace(event.target.checked)} />
              Replace others' changes
            </label>
            {hasTexts && (
              <label className="flex items-center gap-1 self-center pt-4" title="The audio that is there stays as it is">
                <input type="checkbox" checked={textsAlone} onChange={(event) => setTextsAlone(event.target.checked)} />
                The text alone
              </label>
            )}
          </>
        )}
        <div className="col-span-3 col-start-1 text-[12px] text-ink2" data-part="preview">
          {preview.isError ? (
            <p className="text-mark">{preview.error.message}</p>
          ) : (
            preview.data && (
              <p>
                {preview.data.files === 1 ? "One file" : `${preview.data.files} files`}
                {isPage ? " of audio" : ""}, {choices.kind === "sfz_flac" || isPage ? "under" : "about"}{" "}
                <span className="num">{megabytes(preview.data.bytes)}</span>, made in{" "}
                <span className="num">{forWaiting(preview.data.seconds)}</span>
                {isSoundFont && preview.data.named > 1 ? `, ${preview.data.named} presets` : ""}:{" "}
                {preview.data.names.map((name) => name.replace(/^samples\//, "")).join(", ")}
                {preview.data.named > preview.data.names.length ? " …" : ""}
              </p>
            )
          )}
        </div>
        <button className="button act" disabled={regions === 0 || pending || preview.isError} onClick={() => begin(write)}>
          Export
        </button>
      </div>
      <Losses format={format} losses={losses}>
        <PresetsBeside has={besideOf(view)} choices={choices} onChange={setChoices} />
        {!isPage && (
          <label className="flex min-h-6 items-center gap-1 text-ink2" title="F goes through the formats, in every step">
            <input
              type="checkbox"
              checked={heardAs === format}
              onChange={(event) => setHeardAs(event.target.checked ? format : undefined)}
            />
            Keys play it so
          </label>
        )}
      </Losses>
      <Editions view={view} wish={wish} />
      {!view.brought?.as_brought && <ForScript view={view} />}
      <div className="card shrink-0 overflow-hidden">
        <h3 className="px-3 pt-2 font-semibold">Made so far</h3>
        {exports.data?.length === 0 && (
          <p className="px-3 pb-3 text-ink3">Nothing yet. What you export is listed here and can be fetched again.</p>
        )}
        {exports.data?.map((job) => (
          <Made key={job.id} job={job} />
        ))}
      </div>
    </>
  );
}

/** What makes the same instrument again without a screen. */
function ForScript({ view }: { view: InstrumentView }) {
  const some = view.takes.some((take) => take.chosen);
  return (
    <div className="card flex items-center gap-3 p-3">
      <p className="grow text-[12px] text-ink2">
        <b className="font-semibold">To build it in a script:</b> the recordings that play, as they were made, and a plan with all that was
        said. <code className="num">ladder build FOLDER --plan FOLDER/plan.toml --out OUT</code> makes the same instrument.
      </p>
      <a
        className={`button whitespace-nowrap ${some ? "" : "pointer-events-none opacity-60"}`}
        aria-disabled={!some}
        href={`/api/instruments/${view.id}/out`}
        download
      >
        Recordings and plan
      </a>
    </div>
  );
}

/** What there is that formats hold in others beside alone. */
function besideOf({ program: { regions, strands }, panel }: InstrumentView) {
  const takesTurns = ({ when }: { when: Schemas["When"] }) => when.turn !== "always";
  return {
    turns: regions.some(takesTurns) || strands.some(takesTurns),
    keyUp: strands.some(({ on }) => "key_up" in on),
    kept: panel.presets.length > 0,
  };
}

/** Layers that can be left out, each of its pass. */
function layersOf(plan: InstrumentView["plan"]) {
  const several = plan.passes.length > 1;
  return plan.passes.flatMap((pass) =>
    pass.layers.map((layer) => ({
      value: `${pass.id} ${layer.id}`,
      name: several ? `${pass.name}: ${layer.name}` : layer.name,
      pass: pass.id,
      layer: layer.id,
    })),
  );
}
