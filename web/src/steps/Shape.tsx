// Shape: how strands play.
import { useState } from "react";
import type { Fact, InstrumentView } from "../api/client";
import { fitted } from "../model/ranges";
import type { Loudness } from "../model/shape";
import { heldStrand, passOfStrand, type PlacedStrand, placedStrands } from "../model/strands";
import { Field } from "../parts/Field";
import { change } from "../state/edits";
import { useMap } from "../state/map";
import { sayError, useView } from "../state/view";
import { CourseOfLoudness } from "./CourseOfLoudness";
import { BENDS, type StrandNumber } from "./strandFacts";
import { BY_STRIKE, COURSE, type LoudnessNumber } from "./shapeFacts";

export function ShapeBench({ view }: { view: InstrumentView }) {
  const { pass, setPass } = useView();
  const { strand: wanted, setStrand } = useMap();
  const [all, setAll] = useState(false);
  const strands = placedStrands(view);
  const heldId = heldStrand(view, wanted, pass);
  const held = strands.find(({ strand }) => strand.id === heldId);
  if (!held) return <p className="text-ink3">Nothing sounds yet: what was recorded is shaped here.</p>;
  const hold = (strand: number) => {
    const of = passOfStrand(view, strand);
    if (of !== undefined) setPass(of);
    setAll(false);
    setStrand(strand);
  };
  const of = all ? [held, ...strands.filter((other) => other !== held)] : [held];
  return (
    <>
      <div className="flex flex-wrap items-center gap-2">
        <h2 className="mr-2 text-[17px] font-semibold">Shape</h2>
        {strands.map(({ strand }) => (
          <button
            key={strand.id}
            className={`button ${!all && strand === held.strand ? "on" : ""}`}
            aria-pressed={!all && strand === held.strand}
            onClick={() => hold(strand.id)}
          >
            {strand.name}
          </button>
        ))}
        {strands.length > 1 && (
          <button className={`button ${all ? "on" : ""}`} aria-pressed={all} onClick={() => setAll(!all)}>
            all strands
          </button>
        )}
      </div>
      <LoudnessCard key={held.strand.id} view={view} of={of} first={held} />
      <BendCard view={view} of={of} first={held} />
    </>
  );
}

interface Props {
  view: InstrumentView;
  /** What is set goes to all of these. */
  of: PlacedStrand[];
  first: PlacedStrand;
}

function LoudnessCard({ view, of, first }: Props) {
  const { strand, said } = first;
  const loudnessOf = (id: number) => view.program.shapes.find((shape) => shape.id === id)?.loudness;
  const kept = loudnessOf(strand.shape);
  const [live, setLive] = useState<Partial<Loudness>>();
  if (!kept) return null;
  const loudness = { ...kept, ...live };
  const whose = of.length > 1 ? `${of.length} strands` : strand.name;
  const say = (facts: Fact[], values: unknown[], label: string) =>
    void change(
      view.id,
      label,
      of.flatMap((one) => facts.map((fact, n) => ({ strand: one.strand.id, fact, value: values[n] }))),
    ).catch(sayError);
  const because = (about: string | undefined) => said.shape_reasons.find((reason) => reason.about === about)?.because;
  const differs = (number: LoudnessNumber) => of.some((one) => loudnessOf(one.strand.shape)?.[number.of] !== kept[number.of]);
  const field = (number: LoudnessNumber) => {
    const byHand = said.by_hand.includes(number.fact);
    const why = byHand ? undefined : because(number.about);
    return (
      <div key={number.fact} title={[why, number.says].filter(Boolean).join(" · ") || undefined}>
        <Field
          label={differs(number) ? `${number.label} (they differ)` : number.label}
          value={loudness[number.of]}
          unit={number.unit}
          byHand={byHand}
          onSet={(v) => say([number.fact], [fitted(number, v)], `set ${number.label.toLowerCase()} of ${whose}`)}
          onAutomatic={() => say([number.fact], [undefined], `give ${number.label.toLowerCase()} of ${whose} back`)}
        />
      </div>
    );
  };
  const reasons = [...COURSE, BY_STRIKE].flatMap((number) =>
    said.by_hand.includes(number.fact) || !because(number.about) ? [] : [`${number.label}: ${because(number.about)}.`],
  );
  return (
    <section className="card flex flex-col gap-3 p-3" aria-label="Loudness" data-part="loudness">
      <h3>
        <b className="font-semibold">Loudness</b> <span className="text-[12px] text-ink3">over time and by the strike</span>
      </h3>
      <CourseOfLoudness
        loudness={loudness}
        kept={kept}
        onLive={setLive}
        onKeep={(handle, to) => {
          setLive(undefined);
          const moved = COURSE.filter((number) => to[number.of] !== undefined);
          say(
            moved.map(({ fact }) => fact),
            moved.map((number) => to[number.of]),
            `shape the ${handle} of ${whose}`,
          );
        }}
      />
      <div className="grid grid-cols-3 gap-3 min-[1180px]:grid-cols-6">{COURSE.map(field)}</div>
      <div className="flex items-end gap-3 border-t border-line2 pt-3">
        <div className="w-28">{field(BY_STRIKE)}</div>
        <p className="pb-1.5 text-[12px] text-ink3">
          The softest strike is {Math.round(said.strike_range_db)} dB under the hardest, beside what the layers differ by.
        </p>
      </div>
      {reasons.length > 0 && (
        <p className="text-[11.5px] text-ink3" data-part="reasons">
          As it is by itself: {reasons.join(" ")}
        </p>
      )}
    </section>
  );
}

/** How far the bend takes what sounds. */
function BendCard({ view, of, first }: Props) {
  const whose = of.length > 1 ? `${of.length} strands` : first.strand.name;
  const say = (number: StrandNumber, value: unknown, label: string) =>
    void change(
      view.id,
      label,
      of.map(({ strand }) => ({ strand: strand.id, fact: number.fact, value })),
    ).catch(sayError);
  return (
    <section className="card flex flex-col gap-3 p-3" aria-label="Pitch">
      <h3>
        <b className="font-semibold">Pitch</b> <span className="text-[12px] text-ink3">by the bend of a keyboard</span>
      </h3>
      <div className="grid grid-cols-3 gap-3 min-[1180px]:grid-cols-6">
        {BENDS.map((number) => (
          <Field
            key={number.fact}
            label={number.label}
            value={number.of(first)}
            unit={number.unit}
            byHand={first.said.by_hand.includes(number.fact)}
            onSet={(v) => say(number, fitted(number, v), `set ${number.label.toLowerCase()} of ${whose}`)}
            onAutomatic={() => say(number, undefined, `give ${number.label.toLowerCase()} of ${whose} back`)}
          />
        ))}
      </div>
    </section>
  );
}
