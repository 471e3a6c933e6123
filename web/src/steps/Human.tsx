// Small differences from key to key, as hands make them: each a route from chance.
import type { Schemas } from "../api/client";
import { DRIFT, type Driven, HUMAN_FROM, type Movement, same } from "../model/driving";
import { cents, decibels, share, type Unit } from "../model/units";
import { Field } from "../parts/Field";
import { player } from "../sound/player";
import { sayParts, type Shaped, shapesOf } from "./routes";

interface Human extends Driven {
  label: string;
  unit: Unit;
}

const HUMAN: Human[] = [
  { to: "pitch", name: "pitch", label: "Pitch ±", unit: cents, most: 100, first: 0 },
  { to: "level", name: "level", label: "Level ±", unit: decibels, most: 12, first: 0 },
  { to: "place", name: "place", label: "Place ±", unit: share, most: 1, first: 0 },
  { to: "sample_start", name: "start", label: "Start ±", unit: share, most: 0.2, first: 0 },
  { to: "cutoff", name: "cutoff", label: "Cutoff ±", unit: cents, most: 1_200, first: 0 },
];

/** So slow that it is no vibrato. */
const DRIFTS: Movement = { wave: "smooth", rate: { hz: 0.4 }, phase: 0, delay_ms: 0, fade_in_ms: 500, per_voice: true, once: false };
const MOST_DRIFT = 100;

const numberOf = (n: number) => HUMAN_FROM + n;

/** Whether a route is one of these. */
export const isHuman = ({ id }: Schemas["Route"]) => id === DRIFT || (id >= HUMAN_FROM && id < HUMAN_FROM + HUMAN.length);

/** A held key drifts in pitch by so many cents at most; 0 not at all. */
function drifting(cents: number) {
  const amount = Math.min(MOST_DRIFT, Math.abs(cents));
  const route = { from: { movement: DRIFT }, times: null, curve: [], to: "pitch", amount };
  return [
    { kind: "movement" as const, number: DRIFT, value: amount > 0 ? DRIFTS : null },
    { kind: "route" as const, number: DRIFT, value: amount > 0 ? route : null },
  ];
}

export function HumanCard({ shaped }: { shaped: Shaped }) {
  const { shape, whose } = shaped;
  const shown = HUMAN.map((of, n) => ({
    of,
    n,
    amount: shape.routes.find(({ id, to }) => id === numberOf(n) && same(to, of.to))?.amount ?? 0,
  }));
  const drift = shape.routes.find(({ id }) => id === DRIFT)?.amount ?? 0;
  const saidOf = ({ of, n }: (typeof shown)[number], amount: number) => ({
    kind: "route" as const,
    number: numberOf(n),
    value: amount > 0 ? { from: { random: numberOf(n) }, times: null, curve: [], to: of.to, amount: Math.min(of.most, amount) } : null,
  });
  return (
    <section className="card flex flex-col gap-2 p-3" aria-label="Human">
      <h3>
        <b className="font-semibold">Human</b>{" "}
        <span className="text-[12px] text-ink3">
          each key a little otherwise, by chance, by so much at most; and a slow drift while it is held
        </span>
      </h3>
      <div className="grid grid-cols-3 gap-3 min-[1180px]:grid-cols-6">
        {shown
          .filter(({ of }) => of.to !== "cutoff" || shape.filter)
          .map((one) => (
            <Field
              key={one.n}
              label={one.of.label}
              value={one.amount}
              unit={one.of.unit}
              onLive={(amount) => player.shape(shapesOf(shaped), "route_amount", Math.max(0, amount), numberOf(one.n))}
              onSet={(amount) => sayParts(shaped, `let chance move the ${one.of.name} of ${whose}`, [saidOf(one, Math.abs(amount))])}
            />
          ))}
        <Field
          label="Drift ±"
          value={drift}
          unit={cents}
          onLive={(amount) => player.shape(shapesOf(shaped), "route_amount", Math.max(0, amount), DRIFT)}
          onSet={(amount) => sayParts(shaped, `let the pitch of ${whose} drift`, drifting(amount))}
        />
        <div className="flex items-end gap-1">
          {[
            { name: "less", by: 0.5 },
            { name: "more", by: 2 },
          ].map(({ name, by }) => (
            <button
              key={name}
              className="button"
              disabled={drift === 0 && shown.every(({ amount }) => amount === 0)}
              title={`All of them ${by === 2 ? "twice" : "half"} as much`}
              onClick={() =>
                sayParts(shaped, `let chance move ${whose} ${name}`, [
                  ...shown.filter(({ amount }) => amount > 0).map((one) => saidOf(one, one.amount * by)),
                  ...(drift > 0 ? drifting(drift * by) : []),
                ])
              }
            >
              {name}
            </button>
          ))}
        </div>
      </div>
    </section>
  );
}
