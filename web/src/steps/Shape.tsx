// Shape: how strands play.
import { useState } from "react";
import type { Fact, InstrumentView, Schemas } from "../api/client";
import { courseDriven, LOUDNESS, LOUDNESS_DRIVEN, PITCH, PITCH_DRIVEN, same, START_DRIVEN } from "../model/driving";
import { fitted } from "../model/ranges";
import { courseOf, draggedBy, flat, type Flat, type Loudness } from "../model/shape";
import { chosenRegions, placedRegions, someRegions } from "../model/regions";
import { heldStrand, passOfStrand, placedStrands } from "../model/strands";
import { Field } from "../parts/Field";
import { player } from "../sound/player";
import { useMap } from "../state/map";
import { useView } from "../state/view";
import { BrightnessCard } from "./Brightness";
import { CourseCurve } from "./CourseCurve";
import { CourseMenu } from "./CourseMenu";
import { DrivenCourseCard } from "./DrivenCourse";
import { EffectsCard } from "./Effects";
import { Follows } from "./Follows";
import { HumanCard, isHuman } from "./Human";
import { LevelsCard } from "./Levels";
import { Movements } from "./Movements";
import { drive, giveShapesBack, hasRoom, hearEach, ownerOf, regionOwner, sayEach, sayOf, type Shaped, shapesOf, toPanel } from "./routes";
import { ShapeMenu } from "./ShapeMenu";
import { VoicesCard } from "./Voices";
import { BENDS, type StrandNumber } from "./strandFacts";
import { BY_STRIKE, COURSE, type LoudnessNumber, PARTS_BEND, THEY_DIFFER } from "./shapeFacts";

export function ShapeBench({ view }: { view: InstrumentView }) {
  const { pass, setPass, chosen: cells, focus } = useView();
  const { strand: wanted, setStrand, chosen: ids, choose, shaping, setShaping } = useMap();
  const strands = placedStrands(view);
  const heldId = heldStrand(view, wanted, pass);
  const held = strands.find(({ strand }) => strand.id === heldId);
  const owner = held && ownerOf(view, held);
  if (!held || !owner) return <p className="text-ink3">Nothing sounds yet: what was recorded is shaped here.</p>;
  const ofHeld = placedRegions(view).filter(({ region }) => region.key.strand === heldId);
  const chosen = chosenRegions(ofHeld, ids, cells, focus);
  const differing = ofHeld.filter(({ region }) => region.shape != null);
  const hold = (strand: number) => {
    const of = passOfStrand(view, strand);
    if (of !== undefined) setPass(of);
    setShaping("strand");
    setStrand(strand);
  };
  const now = shaping === "regions" && chosen.length === 0 ? "strand" : shaping;
  const of =
    now === "all"
      ? [owner, ...strands.filter((other) => other !== held).flatMap((other) => ownerOf(view, other) ?? [])]
      : now === "regions"
        ? chosen.flatMap((one) => regionOwner(view, one) ?? [])
        : [owner];
  const names = { all: `${of.length} strands`, regions: someRegions(of.length), strand: held.strand.name };
  const shaped: Shaped = { view, of, strand: held, shape: of[0]!.shape, whose: names[now] };
  const ofStrands = now !== "regions";
  const key = `${now === "regions" ? chosen[0]!.id : held.strand.id}`;
  return (
    <>
      <div className="flex flex-wrap items-center gap-2">
        <h2 className="mr-2 text-[17px] font-semibold">Shape</h2>
        {strands.map(({ strand }) => (
          <Whose key={strand.id} name={strand.name} on={now === "strand" && strand === held.strand} onChoose={() => hold(strand.id)} />
        ))}
        {strands.length > 1 && (
          <Whose name="all strands" on={now === "all"} onChoose={() => setShaping(now === "all" ? "strand" : "all")} />
        )}
        {chosen.length > 0 && (
          <Whose
            name={`${chosen.length === 1 ? "1 region" : `${chosen.length} regions`} alone`}
            title={`What is set holds for ${someRegions(chosen.length)} of ${held.strand.name}; all else of them is as their strand`}
            on={now === "regions"}
            onChoose={() => setShaping(now === "regions" ? "strand" : "regions")}
          />
        )}
        <span className="grow" />
        <ShapeMenu shaped={shaped} />
      </div>
      {differing.length > 0 && (
        <p className="flex items-center gap-2 text-[12.5px] text-ink2" data-part="differing">
          {differing.length === 1 ? "1 region has" : `${differing.length} regions have`} a shape of{" "}
          {differing.length === 1 ? "its" : "their"} own.
          <button
            className="text-act hover:underline"
            onClick={() => {
              choose(differing.map(({ id }) => id));
              setShaping("regions");
            }}
          >
            Shape {differing.length === 1 ? "it" : "them"}
          </button>
          <button className="text-act hover:underline" onClick={() => giveShapesBack(view, differing)}>
            Give {differing.length === 1 ? "it" : "them"} back to the strand
          </button>
        </p>
      )}
      <LoudnessCard key={`loudness ${key}`} shaped={shaped} />
      <BrightnessCard key={`brightness ${key}`} shaped={shaped} />
      <PitchCard key={`pitch ${key}`} shaped={shaped} />
      <Movements shaped={shaped} />
      {ofStrands && <VoicesCard shaped={shaped} />}
      <HumanCard shaped={shaped} />
      <section className="card flex flex-col gap-3 p-3" aria-label="Start and loop">
        <h3>
          <b className="font-semibold">Start and loop</b>{" "}
          <span className="text-[12px] text-ink3">where in its recording a key begins, as it is struck</span>
        </h3>
        <Follows shaped={shaped} driven={START_DRIVEN} />
      </section>
      {ofStrands && <EffectsCard view={view} held={held} strands={strands} />}
      {ofStrands && <LevelsCard view={view} />}
    </>
  );
}

function Whose({ name, title, on, onChoose }: { name: string; title?: string; on: boolean; onChoose: () => void }) {
  return (
    <button className={`button ${on ? "on" : ""}`} title={title} aria-pressed={on} onClick={onChoose}>
      {name}
    </button>
  );
}

/** Times of loudness, as they are driven. */
const TIMES = courseDriven(LOUDNESS);

function LoudnessCard({ shaped }: { shaped: Shaped }) {
  const { of, shape, whose } = shaped;
  const { said } = shaped.strand;
  const ofRegions = "region" in of[0]!.target;
  const ofStrands = !ofRegions;
  const kept = flat(shape.loudness);
  const [live, setLive] = useState<Partial<Flat<Loudness>>>();
  const loudness = { ...kept, ...live };
  const isByHand = (fact: Fact) => of[0]!.byHand.includes(fact);
  const because = (about: string | undefined) => said.shape_reasons.find((reason) => reason.about === about)?.because;
  const differs = (number: LoudnessNumber) => of.some((one) => flat(one.shape.loudness)[number.of] !== kept[number.of]);
  const hear = (to: Partial<Flat<Loudness>>) =>
    [...COURSE, ...PARTS_BEND].forEach((number) => {
      const value = to[number.of];
      if (value !== undefined) player.shape(shapesOf(shaped), number.of, value);
    });
  const moved =
    (number: LoudnessNumber, diff: number) =>
    ({ loudness }: Schemas["Shape"]) =>
      fitted(number, flat(loudness)[number.of] + diff);
  const by = (number: LoudnessNumber, diff: number) =>
    sayEach(shaped, `change ${number.label.toLowerCase()} of ${whose}`, number.fact, moved(number, diff));
  const field = (number: LoudnessNumber) => {
    const byHand = isByHand(number.fact);
    const driven = TIMES.find(({ to }) => same(to, { course_time: [LOUDNESS, number.of.replace("_ms", "")] }));
    const why = byHand ? undefined : ofRegions ? "as its strand" : because(number.about);
    return (
      <div key={number.fact} title={[differs(number) && THEY_DIFFER, why, number.says].filter(Boolean).join(" · ") || undefined}>
        <Field
          label={differs(number) ? `${number.label} ≠` : number.label}
          value={loudness[number.of]}
          unit={number.unit}
          byHand={byHand}
          onLive={(v) => hearEach(shaped, number.of, differs(number) ? moved(number, v - kept[number.of]) : () => fitted(number, v))}
          onSet={(v, diff) =>
            diff !== undefined && differs(number)
              ? by(number, diff)
              : sayOf(shaped, `set ${number.label.toLowerCase()} of ${whose}`, [[number.fact, fitted(number, v)]])
          }
          onBy={of.length > 1 ? (diff) => by(number, diff) : undefined}
          onDrive={driven && hasRoom(shape, "route") ? () => drive(shaped, driven) : undefined}
          onControl={driven && ofStrands && hasRoom(shape, "route") ? () => toPanel(shaped, driven) : undefined}
          onAutomatic={() => sayOf(shaped, `give ${number.label.toLowerCase()} of ${whose} back`, [[number.fact, undefined]])}
        />
      </div>
    );
  };
  const reasons = [...COURSE, BY_STRIKE].flatMap((number) =>
    ofRegions || isByHand(number.fact) || !because(number.about) ? [] : [`${number.label}: ${because(number.about)}.`],
  );
  return (
    <section className="card flex flex-col gap-3 p-3" aria-label="Loudness" data-part="loudness">
      <div className="flex items-baseline">
        <h3 className="grow">
          <b className="font-semibold">Loudness</b> <span className="text-[12px] text-ink3">over time and by the strike</span>
        </h3>
        <CourseMenu
          of="loudness"
          course={kept}
          onUse={(name, course) =>
            sayOf(
              shaped,
              `give ${whose} the course «${name}»`,
              [...COURSE, ...PARTS_BEND].map((number) => [number.fact, course[number.of]]),
            )
          }
        />
      </div>
      <CourseCurve<Flat<Loudness>>
        course={(frame) => courseOf(loudness, frame)}
        dragged={(handle, by, frame) => draggedBy(kept, handle, by, frame)}
        onLive={(to) => {
          setLive(to);
          // What it was is heard again.
          hear(to ?? kept);
        }}
        onKeep={(handle, to) => {
          setLive(undefined);
          const moved = [...COURSE, ...PARTS_BEND].filter((number) => to[number.of] !== undefined);
          sayOf(
            shaped,
            `shape the ${handle.replace("_", "'s ")} of ${whose}`,
            moved.map((number) => [number.fact, to[number.of]]),
          );
        }}
      />
      <div className="grid grid-cols-3 gap-3 min-[1180px]:grid-cols-6">{[...COURSE, ...PARTS_BEND].map(field)}</div>
      <Follows shaped={shaped} driven={TIMES} />
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
  const { of, strand, whose } = shaped;
  const say = (number: StrandNumber, value: unknown, label: string) => sayOf(shaped, label, [[number.fact, value]]);
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
      {"strand" in of[0]!.target && (
        <div className="grid grid-cols-3 gap-3 min-[1180px]:grid-cols-6">
          {BENDS.map((number) => (
            <Field
              key={number.fact}
              label={number.label}
              value={number.of(strand)}
              unit={number.unit}
              byHand={strand.said.by_hand.includes(number.fact)}
              onSet={(v) => say(number, fitted(number, v), `set ${number.label.toLowerCase()} of ${whose}`)}
              onAutomatic={() => say(number, undefined, `give ${number.label.toLowerCase()} of ${whose} back`)}
            />
          ))}
        </div>
      )}
      <Follows shaped={shaped} driven={PITCH_DRIVEN} hidden={(route) => isHuman(route) || route.id === PITCH.route} />
    </section>
  );
}
