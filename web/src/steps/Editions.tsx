// Editions: what was given away and never changes; made, fetched, compared, heard, and taken back.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type InstrumentView, type Schemas } from "../api/client";
import { withOne } from "../model/sets";
import { megabytes } from "../model/units";
import { Choice } from "../parts/Choice";
import { Failed, JobBar } from "../parts/JobBar";
import { Ticks } from "../parts/Ticks";
import { editionsQuery } from "../state/queries";
import { usePending } from "../state/pending";
import { useView } from "../state/view";

type Edition = Schemas["EditionView"];
type Wish = Schemas["NewExport"];

const WHAT: { name: string; of: Pick<Wish, "format" | "flac" | "alone"> }[] = [
  { name: "SFZ with WAV files", of: { format: "sfz" } },
  { name: "SFZ with FLAC files", of: { format: "sfz", flac: true } },
  { name: "WAV files alone", of: { format: "sfz", alone: true } },
  { name: "SoundFont 2", of: { format: "sound_font2" } },
  { name: "Page that plays", of: { format: "page" } },
];

/** `wish` has the width, the names and the strands that are chosen above. */
export function Editions({ view, wish }: { view: InstrumentView; wish: Wish }) {
  const query = useQuery(editionsQuery(view.id));
  const [notes, setNotes] = useState("");
  const [wanted, setWanted] = useState<ReadonlySet<string>>(new Set([WHAT[0]!.name, WHAT[3]!.name]));
  const [pending, begin] = usePending();
  const editions = query.data?.editions ?? [];
  const next = (editions[0]?.number ?? 0) + 1;
  const freeze = async () => {
    const files = WHAT.filter(({ name }) => wanted.has(name)).map(({ of }) => {
      const isSoundFont = of.format === "sound_font2";
      const { bits, rate_hz } = wish;
      return {
        ...wish,
        flac: false,
        alone: false,
        ...of,
        // FLAC and SoundFonts have no floats, and SoundFonts no rate above 50 kHz.
        bits: of.format === "sfz" && !of.flac ? bits : Math.min(24, bits),
        rate_hz: isSoundFont && rate_hz ? Math.min(48_000, rate_hz) : rate_hz,
        names: of.format === "sfz" ? wish.names : undefined,
      };
    });
    answer(await api.POST("/api/instruments/{id}/editions", { params: { path: { id: view.id } }, body: { notes, files } }));
    setNotes("");
    await query.refetch();
  };
  return (
    <div className="card p-3" data-part="editions">
      <h3 className="font-semibold">Editions</h3>
      <p className="mb-2 text-[12px] text-ink3">
        An edition is numbered and never changes: its files stay as they are, whatever becomes of the instrument.
      </p>
      <div className="mb-2">
        <Ticks
          all={WHAT.map(({ name }) => ({ value: name, name }))}
          isOn={(name) => wanted.has(name)}
          onTick={(name, isOn) => setWanted(withOne(wanted, name, isOn))}
        />
      </div>
      <div className="flex items-end gap-3">
        <label className="grow">
          <span className="field-label">What is new in it</span>
          <input className="written" value={notes} onChange={(event) => setNotes(event.target.value)} />
        </label>
        <button
          className="button act"
          disabled={wanted.size === 0 || view.program.regions.length === 0 || pending}
          onClick={() => begin(freeze)}
        >
          Make edition {next}
        </button>
      </div>
      {query.isError && <p className="text-mark">{query.error.message}</p>}
      {query.data?.going.map((job) => (
        <div key={job.id} className="mt-2 flex items-center gap-3 border-t border-line2 pt-2">
          <span className="grow">an edition</span>
          {job.state === "failed" ? <Failed jobs={[job]} /> : <JobBar job={job} width="w-40" />}
        </div>
      ))}
      {editions.map((edition, n) => (
        <One key={edition.id} view={view} edition={edition} before={editions.slice(n + 1)} />
      ))}
    </div>
  );
}

function One({ view, edition, before }: { view: InstrumentView; edition: Edition; before: Edition[] }) {
  const { heardEdition, setHeardEdition } = useView();
  const [open, setOpen] = useState(false);
  const [pending, begin] = usePending();
  const takeBack = async () => {
    answer(await api.POST("/api/editions/{id}/take-back", { params: { path: { id: edition.id } } }));
    useView.getState().say(`Edition ${edition.number} is worked on again; Undo goes back.`);
  };
  const heard = heardEdition?.id === edition.id;
  return (
    <div className="mt-2 border-t border-line2 pt-2" data-edition={edition.number}>
      <div className="flex items-baseline gap-3">
        <b className="font-semibold">Edition {edition.number}</b>
        <span className="num text-[12px] text-ink3">{new Date(edition.made_at).toLocaleString()}</span>
        <span className="min-w-0 grow truncate" title={edition.notes}>
          {edition.notes}
        </span>
      </div>
      <div className="my-1 flex flex-wrap items-center gap-2">
        {edition.files.map((file, place) => (
          <a
            key={file.hash + place}
            className="button !py-0.5"
            href={`/api/editions/${edition.id}/files/${place}`}
            download
            title={file.hash}
          >
            {file.name} <span className="num text-ink3">{megabytes(file.bytes)}</span>
          </a>
        ))}
      </div>
      <div className="flex flex-wrap items-center gap-3 text-[12px]">
        <button className="underline" aria-expanded={open} onClick={() => setOpen(!open)}>
          What changed
        </button>
        <label className="flex items-center gap-1">
          <input
            type="checkbox"
            checked={heard}
            onChange={(event) => setHeardEdition(event.target.checked ? { id: edition.id, number: edition.number } : undefined)}
          />
          Keys play it
        </label>
        <button className="underline" disabled={pending} onClick={() => begin(takeBack)}>
          Take it back
        </button>
      </div>
      {open && <WhatChanged view={view} edition={edition} before={before} />}
    </div>
  );
}

/** Lines of one kind that are shown. */
const SHOWN = 40;

function WhatChanged({ view, edition, before }: { view: InstrumentView; edition: Edition; before: Edition[] }) {
  const others = [{ value: "now", name: "from it to now" }].concat(
    before.map(({ id, number }) => ({ value: String(id), name: `from edition ${number} to it` })),
  );
  const [of, setOf] = useState(others[before.length > 0 ? 1 : 0]!.value);
  const changed = useQuery({
    queryKey: ["instrument", view.id, "changed", edition.id, of],
    queryFn: async () =>
      of === "now"
        ? answer(await api.GET("/api/editions/{id}/changed", { params: { path: { id: edition.id }, query: {} } }))
        : answer(await api.GET("/api/editions/{id}/changed", { params: { path: { id: Number(of) }, query: { to: edition.id } } })),
  });
  const data = changed.data;
  const kinds: [string, string[]][] = data
    ? [
        ["Regions", data.regions],
        ["Takes", data.takes],
        ["Settings", data.settings],
      ]
    : [];
  const any = kinds.some(([, lines]) => lines.length > 0);
  return (
    <div className="mt-2 rounded border border-line2 p-2 text-[12px]" data-part="changed">
      <div className="mb-1 w-56">
        <Choice label="Compared" value={of} options={others} onChange={setOf} />
      </div>
      {changed.isError && <p className="text-mark">{changed.error.message}</p>}
      {data && !any && <p className="text-ink3">Nothing changed.</p>}
      {kinds.map(
        ([name, lines]) =>
          lines.length > 0 && (
            <section key={name} className="mt-1">
              <h4 className="text-ink3">
                {name} ({lines.length})
              </h4>
              <ul>
                {lines.slice(0, SHOWN).map((line, n) => (
                  <li key={n}>{line}</li>
                ))}
                {lines.length > SHOWN && <li className="text-ink3">…and {lines.length - SHOWN} more.</li>}
              </ul>
            </section>
          ),
      )}
    </div>
  );
}
