// What a control drives: each over its own range, by a curve that is drawn.
import { useQuery } from "@tanstack/react-query";
import type { InstrumentView } from "../api/client";
import { routeSaid } from "../model/driving";
import { bentForm, curveAt, drivables, type Driving, formOf, type Part, rangeOf, routeWith } from "../model/panel";
import { decibels, type Unit } from "../model/units";
import { useDrag } from "../parts/drag";
import { Field } from "../parts/Field";
import { Menu } from "../parts/Menu";
import { useState } from "react";
import { sayPanel } from "../state/panel";
import { effectsQuery } from "../state/queries";
import { CurveButton } from "./Curve";
import { driveWishes } from "./partWishes";

interface Props {
  view: InstrumentView;
  part: Part;
  drives: Driving[];
}

/** Of the drawing of a curve, in pixels. */
const [WIDTH, HEIGHT] = [120, 64];

export function DrivesCard({ view, part, drives }: Props) {
  const kinds = useQuery(effectsQuery).data ?? [];
  const all = drivables(view.program, kinds);
  const strands = view.program.strands;
  // The same number of all strands at once, where there are several.
  const names = [...new Set(all.filter(({ of }) => strands.some(({ name }) => name === of)).map(({ driven }) => driven.name))];
  const several = strands.length > 1 ? names : [];
  const add = (what: string, of: typeof all) => {
    // The first that it drives says how it is read, and it stands where that is as it was: nothing sounds otherwise until it is moved.
    const first = drives.length === 0 && (part.kind === "slider" || part.kind === "number") ? of[0] : undefined;
    const asItWas = first && Math.min(1, Math.max(0, -first.from / (first.to - first.from)));
    sayPanel(view, `let ${part.name} drive ${what}`, [
      ...of.flatMap((one) => driveWishes(part.id, one)),
      ...(first
        ? [
            ...(part.shown_as === "share" ? [{ control: part.id, fact: "part_shown_as" as const, value: "driven" }] : []),
            { control: part.id, fact: "part_at_first" as const, value: asItWas },
          ]
        : []),
    ]);
  };
  return (
    <section className="flex flex-col gap-2" aria-label="It drives">
      <h4 className="field-label">It drives</h4>
      {drives.map((one) => (
        <Driven key={`${one.own} ${one.route.id}`} view={view} part={part} driving={one} />
      ))}
      <Menu
        align="start"
        className="button self-start"
        button={drives.length > 0 ? "+ another setting" : "+ a setting"}
        acts={[
          ...several.map((name) => ({
            name: `${name} of all strands`,
            begin: () =>
              add(
                `${name} of all strands`,
                all.filter((one) => one.driven.name === name && strands.some((strand) => strand.name === one.of)),
              ),
          })),
          ...all.map((one) => ({
            name: `${one.of} · ${one.driven.name}`,
            begin: () => add(`${one.driven.name} of ${one.of}`, [one]),
          })),
        ]}
      />
    </section>
  );
}

function Driven({ view, part, driving }: { view: InstrumentView; part: Part; driving: Driving }) {
  const { program } = view;
  const { own, route, driven, of } = driving;
  const name = `${of} · ${driven.name}`;
  const kept = rangeOf(program, driving);
  const form = formOf(program, driving);
  const [bending, setBending] = useState<number>();
  const points = bending === undefined ? form : bentForm(bending);
  const say = (label: string, changed: Parameters<typeof routeSaid>[2]) =>
    sayPanel(view, label, [{ part: ["route", own, route.id], fact: "route", value: routeSaid(program, route, changed) }]);
  const range = (to: Partial<typeof kept>) => {
    const next = { ...kept, ...to };
    const within = (value: number) => Math.max(-driven.most, Math.min(driven.most, value));
    say(
      `set from where to where ${part.name} drives ${driven.name} of ${of}`,
      routeWith({ from: within(next.from), to: within(next.to) }, form, driven.to),
    );
  };
  const bend = (to: typeof form) => say(`bend how ${part.name} drives ${driven.name} of ${of}`, routeWith(kept, to, driven.to));
  const isLevel = driven.unit === decibels && driven.name === "level";
  const unit: Unit = isLevel
    ? {
        ...decibels,
        show: (v) => (v <= -96 ? "−∞ dB" : decibels.show(v)),
        parse: (text) => (/∞|silent|off/i.test(text) ? -96 : decibels.parse(text)),
      }
    : driven.unit;
  // The middle is drawn up or down; what falls is drawn falling.
  const falls = kept.to < kept.from;
  const y = (at: number) => {
    const share = curveAt(points, at);
    return falls ? share * HEIGHT : HEIGHT - share * HEIGHT;
  };
  const middleAt = (pointerY: number) => {
    const share = pointerY / HEIGHT;
    return Math.min(0.97, Math.max(0.03, falls ? share : 1 - share));
  };
  const { handlers } = useDrag<true>({
    take: () => true,
    move: (_, __, at) => setBending(middleAt(at.y)),
    drop: (_, __, at) => {
      setBending(undefined);
      bend(bentForm(middleAt(at.y)));
    },
    cancel: () => setBending(undefined),
  });
  const line = Array.from({ length: 25 }, (_, n) => `${(n / 24) * WIDTH},${y(n / 24).toFixed(1)}`).join(" ");
  return (
    <div className="card p-3" role="group" aria-label={name}>
      <div className="mb-2 flex items-center">
        <b className="min-w-0 grow truncate font-semibold">{name}</b>
        <button
          className="rounded px-1.5 text-ink3 hover:text-ink"
          aria-label={`Drive ${name} no longer`}
          onClick={() =>
            sayPanel(view, `let ${part.name} drive ${driven.name} of ${of} no longer`, [
              { part: ["route", own, route.id], fact: "route", value: null },
            ])
          }
        >
          ×
        </button>
      </div>
      <div className="flex items-center gap-3">
        <div
          className="relative shrink-0 cursor-ns-resize touch-none rounded bg-sheet"
          style={{ width: WIDTH, height: HEIGHT }}
          title="Drag up or down to bend it"
          {...handlers}
        >
          <svg width={WIDTH} height={HEIGHT} aria-hidden className="block overflow-visible">
            <polyline points={line} fill="none" strokeWidth={2} className="stroke-act" />
            <circle cx={WIDTH / 2} cy={y(0.5)} r={4} strokeWidth={2} className="fill-raised stroke-act" />
          </svg>
        </div>
        <div className="flex flex-col gap-1">
          <Field label="from" width="92px" value={kept.from} unit={unit} onSet={(from) => range({ from })} />
          <Field label="to" width="92px" value={kept.to} unit={unit} onSet={(to) => range({ to })} />
        </div>
        <CurveButton
          points={form}
          of={`${part.name} drives ${driven.name} of ${of}`}
          onSet={(next) => bend(next.length > 0 ? next : [0, 1].map((at) => ({ at, value: at })))}
        />
      </div>
    </div>
  );
}
