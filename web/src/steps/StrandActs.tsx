// What is done to strands in one act: copies that sound together, and sharing out.
import { useState } from "react";
import type { InstrumentView } from "../api/client";
import { controllerName, OFFERED, type PlacedStrand } from "../model/strands";
import { cents, count, semitones, share } from "../model/units";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { Popup } from "../parts/Popup";
import { actOn } from "./strandFacts";

/** Several that sound together, made of one. */
export function CopiesOf({ view, of }: { view: InstrumentView; of: PlacedStrand }) {
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

type Over = "keys" | "strikes" | "controller" | "movement" | "choosing";

const OVER: { value: Over; name: string; says: string }[] = [
  { value: "keys", name: "the keys", says: "Side by side: a split for two hands." },
  { value: "strikes", name: "the strikes", says: "The first is heard when struck softly, the last when struck hard." },
  { value: "controller", name: "a controller", says: "What is heard goes from the first to the last as it is moved." },
  {
    value: "movement",
    name: "a slow movement",
    says: "What is heard goes from the first to the last and back by itself; Shape says how fast.",
  },
  { value: "choosing", name: "keys that choose", says: "Each is chosen by a key of its own, below all that sound." },
];

/** Several strands share the keys, the strikes or a controller between them. */
export function ShareOut({ view, strands }: { view: InstrumentView; strands: PlacedStrand[] }) {
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
