// Shape: how strands play.
import { useState } from "react";
import type { Fact, InstrumentView } from "../api/client";
import { LOUDNESS_DRIVEN, PITCH, PITCH_DRIVEN, START_DRIVEN } from "../model/driving";
import { fitted } from "../model/ranges";
import { courseOf, draggedBy, type Loudness } from "../model/shape";
import { heldStrand, passOfStrand, placedStrands } from "../model/strands";
import { Field } from "../parts/Field";
import { player } from "../sound/player";
import { change } from "../state/edits";
import { useMap } from "../state/map";
import { sayError, useView } from "../state/view";
import { BrightnessCard } from "./Brightness";
import { CourseCurve } from "./CourseCurve";
import { DrivenCourseCard } from "./DrivenCourse";
import { Follows } from "./Follows";
import { HumanCard, isHuman } from "./Human";
import { LevelsCard } from "./Levels";
import { Movements } from "./Movements";
import { shapeOf, type Shaped, strandsOf } from "./routes";
import { ShapeMenu } from "./ShapeMenu";
import { VoicesCard } from "./Voices";
import { BENDS, type StrandNumber } from "./strandFacts";
import { BY_STRIKE, COURSE, type LoudnessNumber } from "./shapeFacts";

export function ShapeBench({ view }: { view: InstrumentView }) {
  const { pass, setPass } = useView();
  const { strand: wanted, setStrand } = useMap();
  const [all, setAll] = useState(false);
  const strands = placedStrands(view);
  const heldId = heldStrand(view, wanted, pass);
  const held = strands.find(({ strand }) => strand.id === heldId);
  const shape = held && shapeOf(view, held);
  if (!held || !shape) return <p className="text-ink3">Nothing sounds yet: what was recorded is shaped here.</p>;
  const hold = (strand: number) => {
    const of = passOfStrand(view, strand);
    if (of !== undefined) setPass(of);
    setAll(false);
    setStrand(strand);
  };
  const of = all ? [held, ...strands.filter((other) => other !== held)] : [held];
  const shaped: Shaped = { view, of, first: held, shape, whose: of.length > 1 ? `${of.length} strands` : held.strand.name };
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
        <span className="grow" />
        <ShapeMenu shaped={shaped} />
      </div>
      <LoudnessCard key={`loudness ${held.strand.id}`} shaped={shaped} />
      <BrightnessCard key={`brightness ${held.strand.id}`} shaped={shaped} />
      <PitchCard key={`pitch ${held.strand.id}`} shaped={shaped} />
      <Movements shaped={shaped} />
      <VoicesCard shaped={shaped} />
      <HumanCard shaped={shaped} />
      <section className="card flex flex-col gap-3 p-3" aria-label="Start and loop">
        <h3>
          <b className="font-semibold">Start and loop</b>{" "}
          <span className="text-[12px] text-ink3">where in its recording a key begins, as it is struck</span>
        </h3>
        <Follows shaped={shaped} driven={START_DRIVEN} />
      </section>
      <LevelsCard view={view} />
    </>
  );
}

function LoudnessCard({ shaped }: { shaped: Shaped }) {
  const { view, of, shape, whose } = shaped;
  const { said } = shaped.first;
  const kept = shape.loudness;
  const [live, setLive] = useState<Partial<Loudness>>();
  const loudness = { ...kept, ...live };
  const say = (facts: Fact[], values: unknown[], label: string) =>
    void change(
      view.id,
      label,
      of.flatMap((one) => facts.map((fact, n) => ({ strand: one.strand.id, fact, value: values[n] }))),
    ).catch(sayError);
  const because = (about: string | undefined) => said.shape_reasons.find((reason) => reason.about === about)?.because;
  const differs = (number: LoudnessNumber) => of.some((one) => shapeOf(view, one)?.loudness[number.of] !== kept[number.of]);
  const hear = (to: Partial<Loudness>) =>
    COURSE.forEach((number) => {
      const value = to[number.of];
      if (value !== undefined) player.shape(strandsOf(shaped), number.of, value);
    });
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
          onLive={(v) => player.shape(strandsOf(shaped), number.of, fitted(number, v))}
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
      <CourseCurve<Loudness>
        course={(frame) => courseOf(loudness, frame)}
        dragged={(handle, by, frame) => draggedBy(kept, handle, by, frame)}
        onLive={(to) => {
          setLive(to);
          // What it was is heard again.
          hear(to ?? kept);
        }}
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
      <Follows shaped={shaped} driven={LOUDNESS_DRIVEN} hidden={isHuman} />
      {reasons.length > 0 && (
        <p className="text-[11.5px] text-ink3" data-part="reasons">
          As it is by itself: {reasons.join(" ")}
        </p>
      )}
    </section>
  );
}

/** Pitch over time, by the bend and by what else it follows. */
function PitchCard({ shaped }: { shaped: Shaped }) {
  const { view, of, first, whose } = shaped;
  const say = (number: StrandNumber, value: unknown, label: string) =>
    void change(
      view.id,
      label,
      of.map(({ strand }) => ({ strand: strand.id, fact: number.fact, value })),
    ).catch(sayError);
  return (
    <section className="card flex flex-col gap-3 p-3" aria-label="Pitch">
      <h3>
        <b className="font-semibold">Pitch</b>{" "}
        <span className="text-[12px] text-ink3">over time, by the bend and by what else it follows</span>
      </h3>
      <DrivenCourseCard
        shaped={shaped}
        names={PITCH}
        driven={PITCH_DRIVEN[0]!}
        first={{ amount: -100, attack_ms: 0, decay_ms: 80, sustain: 0 }}
      />
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
      <Follows shaped={shaped} driven={PITCH_DRIVEN} hidden={(route) => isHuman(route) || route.id === PITCH.route} />
    </section>
  );
}
