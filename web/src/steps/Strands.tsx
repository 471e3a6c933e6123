// The strands of an instrument: which is taken hold of, which are heard, and in which order they stand.
import { useState } from "react";
import type { InstrumentView } from "../api/client";
import { keyName } from "../model/keys";
import { EVENTS, eventOf, OFFERED, controllerName, passOfStrand, type PlacedStrand } from "../model/strands";
import { cents, count, decibels, semitones, share } from "../model/units";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { Popup } from "../parts/Popup";
import { change } from "../state/edits";
import { useMap } from "../state/map";
import { sayError, useView } from "../state/view";
import { actOn, sayOf } from "./strandFacts";

interface Props {
  view: InstrumentView;
  strands: PlacedStrand[];
  /** The one that can be taken hold of. */
  held: PlacedStrand | undefined;
}

export function Strands({ view, strands, held }: Props) {
  const { setStrand, alone, listenTo } = useMap();
  const setPass = useView((state) => state.setPass);
  const hold = (strand: number) => {
    // The ladder has the rungs of what is held.
    const pass = passOfStrand(view, strand);
    if (pass !== undefined) setPass(pass);
    setStrand(strand);
  };
  return (
    <>
      <div className="flex items-end justify-between gap-3">
        <div>
          <h2 className="text-[17px] font-semibold">Strands</h2>
          <p className="text-[11.5px] text-ink3">sets of regions that sound together</p>
        </div>
        {held && (
          <div className="flex gap-2">
            <CopiesOf view={view} of={held} />
            <ShareOut view={view} strands={strands} />
          </div>
        )}
      </div>
      <table className="card w-full overflow-hidden" data-part="strands">
        <thead className="text-left text-ink3">
          <tr>
            <th className="px-3 py-1.5 font-normal">strand</th>
            <th className="font-normal">sounds on</th>
            <th className="text-right font-normal">regions</th>
            <th className="px-3 text-right font-normal">level</th>
            <th className="font-normal">heard</th>
          </tr>
        </thead>
        <tbody>
          {strands.map((of, n) => (
            <tr
              key={of.strand.id}
              data-strand={of.strand.name}
              className={`border-t border-line2 ${of === held ? "bg-chosen" : ""} ${of.strand.muted ? "text-ink3" : ""}`}
            >
              <td className="px-3 py-1 font-semibold">
                <label className="flex items-center gap-2">
                  <input
                    type="radio"
                    name="strand"
                    checked={of === held}
                    onChange={() => hold(of.strand.id)}
                    title="Alt with the up and down arrows puts it elsewhere in the order"
                    onKeyDown={(event) => {
                      const to = event.key === "ArrowUp" ? -1 : event.key === "ArrowDown" ? 1 : 0;
                      if (!event.altKey || to === 0) return;
                      event.preventDefault();
                      event.stopPropagation();
                      putElsewhere(view.id, strands, n, to);
                    }}
                  />
                  {of.strand.name}
                </label>
              </td>
              <td>{EVENTS.find(({ value }) => value === eventOf(of.strand.on))?.name}</td>
              <td className="num text-right">{of.regions}</td>
              <td className="num px-3 text-right">{decibels.show(of.strand.gain_db)}</td>
              <td className="pr-3 whitespace-nowrap">
                <button
                  className={`button small ${of.strand.muted ? "on" : ""}`}
                  aria-pressed={of.strand.muted ?? false}
                  title="Silent, here and in what is given away"
                  onClick={() =>
                    sayOf(
                      view.id,
                      of,
                      "strand_muted",
                      of.strand.muted ? undefined : true,
                      `${of.strand.muted ? "unmute" : "mute"} ${of.strand.name}`,
                    )
                  }
                >
                  mute
                </button>{" "}
                <button
                  className={`button small ${alone.includes(of.strand.id) ? "on" : ""}`}
                  aria-pressed={alone.includes(of.strand.id)}
                  title="Only what is heard alone sounds, on this page"
                  onClick={() => listenTo(of.strand.id, !alone.includes(of.strand.id))}
                >
                  alone
                </button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {held && <Uncovered view={view} held={held} />}
    </>
  );
}

/** What of a strand is silent, and what sounds twice. */
function Uncovered({ view, held }: { view: InstrumentView; held: PlacedStrand }) {
  const { look, keys } = useView();
  const own = view.coverage.filter(({ strand }) => strand === held.strand.id);
  if (own.length === 0) return null;
  const words = (found: (typeof own)[number]) =>
    `${keyName(found.low_key)}${found.high_key > found.low_key ? ` to ${keyName(found.high_key)}` : ""}${
      found.low_strike > 1 || found.high_strike < 127 ? `, strikes ${found.low_strike} to ${found.high_strike}` : ""
    }`;
  return (
    <ul className="text-[12px]" data-part="coverage">
      {own.slice(0, MOST_SAID).map((found) => (
        <li key={JSON.stringify(found)} className="flex items-center gap-2">
          <span className={found.what === "gap" ? "text-mark" : "text-warn"}>{found.what === "gap" ? "silent" : "sounds twice"}</span>
          <button
            className="rounded px-1 underline hover:bg-line2"
            onClick={() => look(Math.round((found.low_key + found.high_key - keys) / 2), keys)}
          >
            {words(found)}
          </button>
        </li>
      ))}
      {own.length > MOST_SAID && <li className="text-ink3">and {own.length - MOST_SAID} more places</li>}
    </ul>
  );
}

/** So many places are said; the board shows all. */
const MOST_SAID = 3;

/** A strand changes places with the one before or after it. */
function putElsewhere(instrument: number, strands: PlacedStrand[], n: number, by: number): void {
  const other = n + by;
  if (!strands[other]) return;
  const order = strands.map(({ strand }) => strand.id);
  [order[n], order[other]] = [order[other]!, order[n]!];
  const wishes = order.map((strand, place) => ({ strand, fact: "strand_place" as const, value: place }));
  void change(instrument, `put ${strands[n]!.strand.name} elsewhere`, wishes).catch(sayError);
}

/** Several that sound together, made of one. */
function CopiesOf({ view, of }: { view: InstrumentView; of: PlacedStrand }) {
  const [sound, setSound] = useState(3);
  const [transpose, setTranspose] = useState(0);
  const [detune, setDetune] = useState(9);
  const [spread, setSpread] = useState(0.5);
  return (
    <Popup button="Copies…" title={`Copies of ${of.strand.name}`}>
      {(close) => (
        <>
          <div className="grid grid-cols-2 gap-3">
            <Field label="Sound together" value={sound} unit={count} onSet={(v) => setSound(Math.min(8, Math.max(2, Math.round(v))))} />
            <Field
              label="Copies sound"
              value={transpose}
              unit={higher}
              onSet={(v) => setTranspose(Math.min(48, Math.max(-48, Math.round(v))))}
            />
            <Field label="Each from the next" value={detune} unit={cents} onSet={setDetune} />
            <Field label="Spread over the sides" value={spread} unit={share} onSet={(v) => setSpread(Math.min(1, Math.max(0, v)))} />
          </div>
          <p className="mt-2 text-[12px] text-ink3">
            They share its recordings: nothing grows. What is done to its regions is done to theirs, unless something was said of those.
          </p>
          <button
            className="button act mt-3"
            onClick={() => {
              close();
              actOn(view.id, { copy: { of: of.strand.id, copies: { sound, transpose_keys: transpose, detune_cents: detune, spread } } });
            }}
          >
            {sound === 2 ? "Make a copy" : `Make ${sound - 1} copies`}
          </button>
        </>
      )}
    </Popup>
  );
}

const higher = { ...semitones, show: (v: number) => (v === 0 ? "as high" : `${v > 0 ? "+" : "−"}${semitones.show(Math.abs(v))}`) };

type Over = "keys" | "strikes" | "controller" | "choosing";

const OVER: { value: Over; name: string; says: string }[] = [
  { value: "keys", name: "the keys", says: "Side by side: a split for two hands." },
  { value: "strikes", name: "the strikes", says: "The first is heard when struck softly, the last when struck hard." },
  { value: "controller", name: "a controller", says: "What is heard goes from the first to the last as it is moved." },
  { value: "choosing", name: "keys that choose", says: "Each is chosen by a key of its own, below all that sound." },
];

/** Several strands share the keys, the strikes or a controller between them. */
function ShareOut({ view, strands }: { view: InstrumentView; strands: PlacedStrand[] }) {
  const [over, setOver] = useState<Over>("keys");
  const [controller, setController] = useState("1");
  const [fade, setFade] = useState(0);
  const [left, setLeft] = useState<ReadonlySet<number>>(new Set());
  const wished = strands.filter(({ strand }) => "key_down" in strand.on && !left.has(strand.id)).map(({ strand }) => strand.id);
  const begin = () => {
    if (over === "choosing") return actOn(view.id, { choose_by_keys: { strands: wished } });
    actOn(view.id, { share_out: { strands: wished, over: over === "controller" ? { controller: Number(controller) } : over, fade } });
  };
  return (
    <Popup button="Share out…" title="Strands share out" disabled={strands.length < 2}>
      {(close) => (
        <>
          <div className="grid grid-cols-2 gap-3">
            <Choice label="What" value={over} options={OVER} onChange={setOver} />
            {over === "controller" && (
              <Choice
                label="Which"
                value={controller}
                options={OFFERED.map((number) => ({ value: String(number), name: controllerName(number) }))}
                onChange={setController}
              />
            )}
            {over !== "choosing" && (
              <Field
                label="Each fades over"
                value={fade}
                unit={over === "keys" ? semitones : steps}
                onSet={(v) => setFade(Math.min(126, Math.max(0, Math.round(v))))}
              />
            )}
          </div>
          <p className="my-2 text-[12px] text-ink3">{OVER.find(({ value }) => value === over)?.says}</p>
          {strands.map(({ strand }) => (
            <label key={strand.id} className="flex min-h-6 items-center gap-2">
              <input
                type="checkbox"
                disabled={!("key_down" in strand.on)}
                checked={wished.includes(strand.id)}
                onChange={(event) => {
                  const next = new Set(left);
                  if (event.target.checked) next.delete(strand.id);
                  else next.add(strand.id);
                  setLeft(next);
                }}
              />
              {strand.name}
            </label>
          ))}
          <button
            className="button act mt-3"
            disabled={wished.length < 2}
            onClick={() => {
              close();
              begin();
            }}
          >
            Share out among {wished.length}
          </button>
        </>
      )}
    </Popup>
  );
}

const steps = { ...count, show: (v: number) => (v === 0 ? "no steps" : `${v} ${v === 1 ? "step" : "steps"}`) };
