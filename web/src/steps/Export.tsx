// Giving it away.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type InstrumentView, type JobView, type Schemas } from "../api/client";
import type { Format } from "../model/formats";
import { megabytes } from "../model/units";
import { Choice } from "../parts/Choice";
import { Failed, JobBar } from "../parts/JobBar";
import { Written } from "../parts/Written";
import { change } from "../state/edits";
import { exportsQuery } from "../state/queries";
import { usePending } from "../state/pending";
import { Editions } from "./Editions";
import { useSettings } from "../state/settings";
import { sayError, useView } from "../state/view";

type Bits = "16" | "24" | "32";
type Kind = "sfz" | "sfz_flac" | "audio" | "sound_font2";

const WIDTHS: { value: Bits; name: string }[] = [
  { value: "16", name: "16 bit, dithered" },
  { value: "24", name: "24 bit" },
  { value: "32", name: "32 bit float" },
];

const KINDS: { value: Kind; name: string }[] = [
  { value: "sfz", name: "SFZ with WAV files" },
  { value: "sfz_flac", name: "SFZ with FLAC files" },
  { value: "audio", name: "WAV files alone, loops inside" },
  { value: "sound_font2", name: "SoundFont 2" },
];

/** What is brought goes out under the names that it came with. */
const firstRule = (view: InstrumentView) => (view.brought ? "{name}" : "{instrument} {name}");

export function ExportBench({ view }: { view: InstrumentView }) {
  const [kind, setKind] = useState<Kind>("sfz");
  const [bits, setBits] = useState<Bits>("24");
  const [rule, setRule] = useState(firstRule(view));
  const [without, setWithout] = useState<ReadonlySet<number>>(new Set());
  const format: Format = kind === "sound_font2" ? "sound_font2" : "sfz";
  const exports = useQuery(exportsQuery(view.id));
  const { middleC } = useSettings();
  const wish: Schemas["NewExport"] = {
    format,
    bits: Number(bits),
    flac: kind === "sfz_flac",
    alone: kind === "audio",
    // A SoundFont's own names are short, and its instrument has one of its own.
    names: format === "sfz" ? rule : undefined,
    middle_c: middleC,
    without: [...without],
  };
  const preview = useQuery({
    queryKey: ["instrument", view.id, "preview", wish],
    queryFn: async () => answer(await api.POST("/api/instruments/{id}/exports/preview", { params: { path: { id: view.id } }, body: wish })),
    placeholderData: (before: Schemas["Preview"] | undefined) => before,
    retry: false,
  });
  const { heardAs, setHeardAs } = useView();
  const [pending, begin] = usePending();
  const write = async () => {
    answer(await api.POST("/api/instruments/{id}/exports", { params: { path: { id: view.id } }, body: wish }));
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
      <div className="card grid grid-cols-3 items-end gap-3 p-3">
        <Choice<Kind>
          label="Format"
          value={kind}
          onChange={(next) => {
            setKind(next);
            if ((next === "sound_font2" || next === "sfz_flac") && bits === "32") setBits("24");
          }}
          options={KINDS}
        />
        <Choice
          label="Bits"
          value={bits}
          onChange={setBits}
          options={WIDTHS.filter(({ value }) => kind === "sfz" || kind === "audio" || value !== "32")}
        />
        <button className="button act" disabled={regions === 0 || pending || preview.isError} onClick={() => begin(write)}>
          Export
        </button>
        {format === "sfz" && (
          <Written
            label="Names of the files"
            value={rule}
            onKeep={(text) => setRule(text.trim() === "" ? firstRule(view) : text)}
            title="{instrument} {name} {strand} {note} {key} {layer} {strike} {rr} are filled in"
          />
        )}
        <Written
          label="Credits"
          value={view.program.credits ?? ""}
          onKeep={(text) => say("credits", text)}
          placeholder="who made it, and with whose help"
        />
        <Written
          label="Licence"
          value={view.program.licence ?? ""}
          onKeep={(text) => say("licence", text)}
          placeholder="what may be done with it"
        />
        {strands.length > 1 && (
          <fieldset className="col-span-3 flex flex-wrap gap-x-4 gap-y-1">
            <legend className="field-label">Strands that go out</legend>
            {strands.map((strand) => (
              <label key={strand.id} className="flex items-center gap-1">
                <input
                  type="checkbox"
                  checked={!without.has(strand.id)}
                  onChange={(event) => {
                    const next = new Set(without);
                    next[event.target.checked ? "delete" : "add"](strand.id);
                    setWithout(next);
                  }}
                />
                {strand.name}
              </label>
            ))}
          </fieldset>
        )}
        <div className="col-span-3 text-[12px] text-ink2" data-part="preview">
          {preview.isError ? (
            <p className="text-mark">{preview.error.message}</p>
          ) : (
            preview.data && (
              <p>
                {preview.data.files === 1 ? "One file" : `${preview.data.files} files`}, {kind === "sfz_flac" ? "under" : "about"}{" "}
                <span className="num">{megabytes(preview.data.bytes)}</span>:{" "}
                {preview.data.names.map((name) => name.replace(/^samples\//, "")).join(", ")}
                {preview.data.files > preview.data.names.length ? " …" : ""}
              </p>
            )
          )}
        </div>
      </div>
      <div className="card p-3">
        <div className="mb-1 flex items-center">
          <h3 className="grow font-semibold">What this format will lose</h3>
          <label className="flex items-center gap-1 text-ink2" title="F goes through the formats, in every step">
            <input
              type="checkbox"
              checked={heardAs === format}
              onChange={(event) => setHeardAs(event.target.checked ? format : undefined)}
            />
            Keys play it so
          </label>
        </div>
        {losses?.length === 0 && (
          <p className="text-ink2">
            Nothing: fades and the loops' crossfades are rendered into the audio, tuning is rounded to whole cents.
          </p>
        )}
        <ul className="list-disc pl-5">
          {losses?.map((loss) => (
            <li key={loss.what}>
              {loss.what} <span className="text-ink3">{loss.regions} regions</span>
            </li>
          ))}
        </ul>
      </div>
      <Editions view={view} wish={wish} />
      <div className="card overflow-hidden">
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

function Made({ job }: { job: JobView }) {
  const name = job.result?.name ?? ((job.input as { format?: string }).format === "sfz" ? "SFZ with WAV files" : "SoundFont 2");
  return (
    <div className="flex items-center gap-3 border-t border-line2 px-3 py-2" data-job={job.id}>
      <span className="min-w-0 flex-1 truncate">{name}</span>
      {job.state === "done" && (
        <>
          <span className="num text-ink3">{megabytes(job.result?.bytes ?? 0)}</span>
          <a className="button" href={`/api/jobs/${job.id}/file`} download>
            Download
          </a>
        </>
      )}
      {(job.state === "waiting" || job.state === "running") && <JobBar job={job} width="w-40" />}
      {job.state === "failed" && <Failed jobs={[job]} />}
      {job.state === "cancelled" && <span className="text-ink3">cancelled</span>}
    </div>
  );
}
