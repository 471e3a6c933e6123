// Files that exist already: dropped, read by their names, checked by what is heard, taken in.
import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { answer, api, type InstrumentView, type Schemas } from "../api/client";
import { change } from "../state/edits";
import { Bring } from "../parts/Bring";
import { keyName } from "../model/keys";
import { key } from "../model/units";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { Popup } from "../parts/Popup";
import { Sending } from "../parts/Sending";
import { filesOf, useSending } from "../state/sending";
import { sayError, useView } from "../state/view";
import { type Mended, type Place, placeOf, type Row } from "../model/fileRows";
import { FileTable } from "./FileTable";
import { type Kind, KINDS } from "./PlanForm";

type Spelling = "letters" | "german" | "syllables";
type Stem = Schemas["StemView"];

const SPELLINGS: { value: Spelling; name: string }[] = [
  { value: "letters", name: "C D E" },
  { value: "german", name: "C D E … H (German)" },
  { value: "syllables", name: "do re mi" },
];

/** Keys that are added to what names say, by how they write middle C. */
const OCTAVES = [
  { value: "auto", name: "as heard" },
  ...[4, 3, 5, 2, 6, 1].map((octave) => ({ value: String((4 - octave) * 12), name: `C${octave}` })),
];

const EVENED = " All of one peak, they were normalised: their levels were evened along the ladder. Undo has them as they came.";

export function Files({ view }: { view: InstrumentView }) {
  const [spelling, setSpelling] = useState<Spelling>("letters");
  const [shift, setShift] = useState<number | undefined>();
  const [kit, setKit] = useState<Kit | undefined>();
  const [mended, setMended] = useState<Record<number, Mended>>({});
  const [kind, setKind] = useState<Kind | undefined>();
  const [apart, setApart] = useState(false);
  const [doubtful, setDoubtful] = useState(false);
  const say = useView((state) => state.say);
  const navigate = useNavigate();
  const list = useQuery({
    queryKey: ["instrument", view.id, "files", spelling, shift, kit],
    queryFn: async () =>
      answer(
        await api.GET("/api/instruments/{id}/files", {
          params: { path: { id: view.id }, query: { spelling, shift_keys: shift, kit: kit?.keys, kit_from: kit?.from } },
        }),
      ),
    placeholderData: (previous) => previous,
  });
  const rows = list.data?.files ?? [];
  const layers = list.data?.layers ?? [];
  const stems = list.data?.stems ?? [];
  const against = rows.filter((row) => row.contradicts && mended[row.id]?.key === undefined);
  const shown = doubtful ? rows.filter((row) => row.contradicts) : rows;
  const mend = (what: Record<number, Mended>) =>
    setMended((all) => {
      const next = { ...all };
      for (const [id, of] of Object.entries(what)) next[Number(id)] = { ...next[Number(id)], ...of };
      return next;
    });
  const ready = (some: Row[]) =>
    some.map((row) => placeOf(row, mended[row.id])).filter((place): place is Place & { key: number } => place.key !== undefined);
  const isNew = view.takes.length === 0;
  const without = rows.length - ready(rows).length;
  // A dropped folder is the instrument: its name is offered, and taken where there is none yet.
  const folders = new Set(rows.map((row) => row.name.split(/[/\\]/).slice(0, -1)[0]));
  const folder = folders.size === 1 ? [...folders][0] : undefined;
  const unnamed = view.name === "This computer's devices" || view.name === "New instrument";
  const takeIn = async (groups: { name?: string; kind?: Kind; of: Row[] }[]) => {
    const body = groups.map(({ name, kind, of }) => ({ name, kind, layers, files: ready(of) }));
    const made = answer(await api.POST("/api/instruments/{id}/files/take-in", { params: { path: { id: view.id } }, body }));
    setMended({});
    return made;
  };
  const takeAllIn = async () => {
    const count = ready(rows).length;
    const [made] = await takeIn([{ kind: isNew ? (kind ?? list.data?.kind) : undefined, of: rows }]);
    if (folder && unnamed) await change(view.id, "name it after its folder", [{ fact: "name", value: folder.slice(0, 120) }]);
    say(`${count} ${count === 1 ? "file was" : "files were"} taken in.${made?.evened ? EVENED : ""}`);
  };
  const makeEach = async (kinds: Record<string, Kind>) => {
    const made = await takeIn(
      stems.map((stem) => ({
        name: stem.name,
        kind: kinds[stem.name] ?? stem.kind,
        of: rows.filter((row) => row.guess.stem === stem.name),
      })),
    );
    say(`${made.length} instruments were made.${made.some((one) => one.evened) ? EVENED : ""}`);
    await navigate({ to: "/" });
  };
  const forget = (some: Row[]) => {
    const files = some.flatMap((row) => [row.id, ...(row.right ? [row.right.id] : [])]);
    void api
      .POST("/api/instruments/{id}/files/forget", { params: { path: { id: view.id } }, body: files })
      .then(answer)
      .catch(sayError);
  };
  return (
    <>
      <Drop instrument={view.id} />
      {rows.length > 0 && (
        <section className="card shrink-0 overflow-hidden" aria-label="Files">
          <div className="flex flex-wrap items-end gap-3 p-3">
            <div className="w-40">
              <Choice
                label="Middle C (key 60) is written"
                value={shift === undefined ? "auto" : String(shift)}
                onChange={(v) => setShift(v === "auto" ? undefined : Number(v))}
                options={OCTAVES}
              />
            </div>
            <div className="w-40">
              <Choice<Spelling> label="Notes are written" value={spelling} onChange={setSpelling} options={SPELLINGS} />
            </div>
            {isNew && list.data && (
              <div className="w-40">
                <Choice<Kind> label="What it is" value={kind ?? list.data.kind} onChange={setKind} options={KINDS} />
              </div>
            )}
            {isNew && (
              <KitLayout
                kit={kit}
                onSet={(next) => {
                  setMended({});
                  setKind(undefined);
                  setKit(next);
                }}
              />
            )}
            <p className="min-w-48 flex-1 text-ink3" data-part="octave">
              {kit ? `A kit: a key each, from ${keyName(kit.from)}, not transposed.` : list.data?.octave_says}
            </p>
          </div>
          {/* It stays once all are mended: what is under a hand that is about to press does not move. */}
          {rows.some((row) => row.contradicts) && (
            <div className="flex flex-wrap items-center gap-2 border-t border-line2 px-3 py-1.5" data-part="against">
              <span className="text-mark">
                {against.length} {against.length === 1 ? "name contradicts" : "names contradict"} what is heard.
              </span>
              <button className={`button !py-0.5 ${doubtful ? "on" : ""}`} aria-pressed={doubtful} onClick={() => setDoubtful(!doubtful)}>
                Show them alone
              </button>
              <button
                className="button !py-0.5"
                disabled={against.length === 0}
                onClick={() => mend(Object.fromEntries(against.map((row) => [row.id, { key: row.heard.key ?? undefined }])))}
              >
                Use what is heard
              </button>
            </div>
          )}
          <FileTable instrument={view.id} rows={shown} layers={layers} mended={mended} onMend={mend} onForget={forget} />
          <div className="flex flex-wrap gap-2 border-t border-line2 p-3">
            <button className="button act" disabled={without === rows.length} onClick={() => void takeAllIn().catch(sayError)}>
              Take {rows.length - without} {rows.length - without === 1 ? "file" : "files"} in
            </button>
            {stems.length > 1 && (
              <button className="button" aria-expanded={apart} onClick={() => setApart(!apart)}>
                One instrument from each of {stems.length} names…
              </button>
            )}
            {without > 0 && <span className="self-center text-warn">{without} without a rung stay here.</span>}
            <div className="grow" />
            <button className="button" onClick={() => forget(rows)}>
              Put them all aside
            </button>
          </div>
          {apart && stems.length > 1 && <Apart stems={stems} onMake={makeEach} />}
        </section>
      )}
    </>
  );
}

/** Sounds of one key each. */
interface Kit {
  keys: "all" | "white";
  from: number;
}

/** General MIDI's percussion map (MIDI RP-003) begins with its bass drum. */
const KIT_FROM = 36;

/** Lays all files out on a key each, whatever they are called. */
function KitLayout({ kit, onSet }: { kit: Kit | undefined; onSet: (kit: Kit | undefined) => void }) {
  const [from, setFrom] = useState(KIT_FROM);
  if (kit)
    return (
      <button className="button" onClick={() => onSet(undefined)}>
        As their names say
      </button>
    );
  const begin = (keys: Kit["keys"], close: () => void) => {
    close();
    onSet({ keys, from });
  };
  return (
    <Popup button="As a kit…" title="Lay them out as a kit">
      {(close) => (
        <>
          <p className="mb-2 text-[12px] text-ink3">Each file on a key of its own, in the order of their names; none is transposed.</p>
          <Field label="From key" value={from} unit={key} onSet={(v) => setFrom(Math.min(127, Math.max(0, Math.round(v))))} />
          <div className="mt-3 flex gap-2">
            <button className="button act" onClick={() => begin("all", close)}>
              On all keys
            </button>
            <button className="button act" onClick={() => begin("white", close)}>
              On white keys
            </button>
          </div>
        </>
      )}
    </Popup>
  );
}

/** Where files are dropped or chosen, and how far they are on their way. */
function Drop({ instrument }: { instrument: number }) {
  const { going, refused, bring, stop } = useSending();
  const [over, setOver] = useState(false);
  const begin = (files: Promise<File[]>) => void files.then((all) => bring(instrument, all)).catch(sayError);
  return (
    <div
      className={`card flex shrink-0 flex-col items-center gap-2 border-dashed p-5 text-center ${over ? "border-act bg-act-soft" : ""}`}
      data-part="drop"
      onDragOver={(event) => {
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(event) => {
        event.preventDefault();
        setOver(false);
        begin(filesOf(event.dataTransfer.items));
      }}
    >
      <p>Drop a folder or files here: note, strength and turn are read from their names, and checked against what is heard.</p>
      <div className="flex gap-2">
        <Bring name="Choose files…" main part="files" onFiles={(files) => begin(Promise.resolve(files))} />
        <Bring name="Choose a folder…" folder onFiles={(files) => begin(Promise.resolve(files))} />
      </div>
      <Sending going={going} refused={refused} stop={stop} className="w-full" />
    </div>
  );
}

/** One instrument of each name: what each is can be said before. */
function Apart({ stems, onMake }: { stems: Stem[]; onMake: (kinds: Record<string, Kind>) => Promise<void> }) {
  const [kinds, setKinds] = useState<Record<string, Kind>>({});
  return (
    <div className="border-t border-line2 p-3" data-part="apart">
      <div className="grid max-h-[180px] grid-cols-2 gap-x-4 gap-y-2 overflow-auto">
        {stems.map((stem) => (
          <div key={stem.name} className="flex items-center gap-2">
            <span className="min-w-0 flex-1 truncate" title={stem.name}>
              {stem.name} <span className="num text-ink3">{stem.files}</span>
            </span>
            <div className="w-36">
              <Choice<Kind>
                quiet
                label={`What ${stem.name} is`}
                value={kinds[stem.name] ?? stem.kind}
                onChange={(kind) => setKinds((all) => ({ ...all, [stem.name]: kind }))}
                options={KINDS}
              />
            </div>
          </div>
        ))}
      </div>
      <button className="button act mt-3" onClick={() => void onMake(kinds).catch(sayError)}>
        Make {stems.length} instruments
      </button>
    </div>
  );
}
