// The effects of a row, one under the other in the order in which they are heard; dragged by their names, or moved with Alt and the arrows.
import { useRef, useState } from "react";
import type { InstrumentView, Schemas } from "../api/client";
import { type Source } from "../model/driving";
import {
  drivenOf,
  drivenOfEffect,
  type Effect,
  effectName,
  nearest,
  placeBefore,
  ROUTES_OF_WHOLE,
  settingFact,
  shapeOfWhole,
  unitOf,
} from "../model/effects";
import type { PlacedStrand } from "../model/strands";
import { decibels } from "../model/units";
import { Choice } from "../parts/Choice";
import { useDrag } from "../parts/drag";
import { Field } from "../parts/Field";
import { player } from "../sound/player";
import { change } from "../state/edits";
import { sayError } from "../state/view";
import { Follows } from "./Follows";
import { drive, type Shaped, toPanel } from "./routes";

interface Props {
  view: InstrumentView;
  bus: number;
  row: Effect[];
  kinds: Schemas["EffectView"][];
  whose: string;
  strand: PlacedStrand;
}

/** What is one for all voices can drive what is done to all of them. */
const isOfAll = (source: Source) =>
  source === "pressure" || source === "bend" || (typeof source === "object" && ("controller" in source || "control" in source));

export function EffectRow({ view, bus, row, kinds, whose, strand }: Props) {
  const list = useRef<HTMLDivElement>(null);
  /** While one is dragged: which, and before which it would stand. */
  const [moving, setMoving] = useState<{ from: number; to: number }>();
  const labelOf = (kind: Effect["kind"]) => kinds.find((one) => one.kind === kind)?.label ?? kind;
  const move = (from: number, to: number) => {
    if (to < 0 || to > row.length || to === from || to === from + 1) return;
    const effect = row[from]!;
    const places = row.map((_, n) => n);
    void change(view.id, `move ${effectName(row, effect, labelOf).toLowerCase()} of ${whose}`, [
      ...row.map((one, n) => ({
        effect: [bus, one.id] as [number, number],
        fact: "effect_place" as const,
        value: one === effect ? placeBefore(places, to) : n,
      })),
    ]).catch(sayError);
  };
  /** Before which a height lies: after the middles of those above it. */
  const placeAt = (y: number) =>
    [...(list.current?.children ?? [])].filter((child) => {
      const box = child.getBoundingClientRect();
      return y > (box.top + box.bottom) / 2;
    }).length;
  return (
    <div ref={list} className="flex flex-col" data-part="effect row">
      {row.map((effect, n) => (
        <div
          key={effect.id}
          className={`border-t py-2 ${moving?.to === n ? "border-t-act" : "border-line2"} ${
            moving?.to === n + 1 && n + 1 === row.length ? "border-b border-b-act" : ""
          } ${moving?.from === n ? "opacity-60" : ""}`}
        >
          <One
            view={view}
            bus={bus}
            effect={effect}
            name={effectName(row, effect, labelOf)}
            settings={kinds.find((one) => one.kind === effect.kind)?.settings ?? []}
            whose={whose}
            strand={strand}
            onMoving={(y) => setMoving(y === undefined ? undefined : { from: n, to: placeAt(y) })}
            onMoved={(y) => {
              setMoving(undefined);
              move(n, placeAt(y));
            }}
            onNudge={(by) => move(n, by > 0 ? n + 2 : n - 1)}
          />
        </div>
      ))}
      {row.length === 0 && <p className="text-[12.5px] text-ink3">No effect: it is heard as it is.</p>}
    </div>
  );
}

interface OneProps {
  view: InstrumentView;
  bus: number;
  effect: Effect;
  name: string;
  settings: Schemas["SettingRow"][];
  whose: string;
  strand: PlacedStrand;
  onMoving: (y: number | undefined) => void;
  onMoved: (y: number) => void;
  onNudge: (by: number) => void;
}

function One({ view, bus, effect, name, settings, whose, strand, onMoving, onMoved, onNudge }: OneProps) {
  const of: [number, number] = [bus, effect.id];
  const lower = name.toLowerCase();
  const say = (label: string, fact: Parameters<typeof change>[2][number]["fact"], value: unknown) =>
    void change(view.id, label, [{ effect: of, fact, value }]).catch(sayError);
  const { handlers } = useDrag<true>({
    take: () => true,
    move: (_, __, ___, event) => onMoving(event.clientY),
    drop: (_, __, ___, event) => onMoved(event.clientY),
    cancel: () => onMoving(undefined),
  });
  const shape = shapeOfWhole(view.program);
  const shaped: Shaped = {
    view,
    of: [{ target: { strand: -1 }, own: ROUTES_OF_WHOLE, shape, byHand: [] }],
    strand,
    shape,
    whose: `${lower} of ${whose}`,
  };
  const driven = drivenOfEffect(effect, settings);
  return (
    <div className="flex flex-col gap-2" role="group" aria-label={name}>
      <div className="flex items-center gap-2">
        <button
          className="cursor-grab touch-none rounded px-1 text-ink3 hover:text-ink"
          aria-label={`Move ${lower}`}
          title="Dragged up or down, or moved with Alt and the arrows, it is heard earlier or later"
          onKeyDown={(event) => {
            const by = event.key === "ArrowUp" ? -1 : event.key === "ArrowDown" ? 1 : 0;
            if (!event.altKey || by === 0) return;
            event.preventDefault();
            event.stopPropagation();
            onNudge(by);
          }}
          {...handlers}
        >
          ⋮⋮
        </button>
        <label className="flex items-center gap-2 font-semibold">
          <input
            type="checkbox"
            checked={effect.on}
            onChange={(event) =>
              say(`switch ${lower} of ${whose} ${event.target.checked ? "on" : "off"}`, "effect_on", event.target.checked)
            }
          />
          {name}
        </label>
        <span className="grow" />
        <button
          className="rounded px-1.5 text-ink3 hover:text-ink"
          aria-label={`Remove ${lower}`}
          onClick={() => say(`remove ${lower} from ${whose}`, "effect_kind", null)}
        >
          ×
        </button>
      </div>
      <div className={`grid grid-cols-4 gap-3 min-[1180px]:grid-cols-8 ${effect.on ? "" : "opacity-60"}`}>
        {settings.map((row, place) =>
          row.unit === "choice" ? (
            <Choice
              key={row.name}
              label={row.name}
              value={String(effect.settings[place] ?? row.first)}
              options={row.choices.map((choice, n) => ({ value: String(n), name: choice }))}
              onChange={(next) => say(`set ${row.name.toLowerCase()} of ${lower} of ${whose}`, settingFact(place), Number(next))}
            />
          ) : (
            <Field
              key={row.name}
              label={row.name}
              value={effect.settings[place] ?? row.first}
              unit={unitOf(row)}
              byHand={effect.settings[place] !== row.first}
              onLive={(value) => player.effect(effect.id, place, nearest(row, value))}
              onSet={(value) => say(`set ${row.name.toLowerCase()} of ${lower} of ${whose}`, settingFact(place), nearest(row, value))}
              onDrive={() => drive(shaped, drivenOf(effect.id, place, row))}
              onControl={() => toPanel(shaped, drivenOf(effect.id, place, row))}
              onAutomatic={() => say(`give ${row.name.toLowerCase()} of ${lower} of ${whose} back`, settingFact(place), undefined)}
            />
          ),
        )}
        <Field
          label="Its level"
          value={effect.level_db}
          unit={decibels}
          byHand={effect.level_db !== 0}
          onLive={(value) => player.effect(effect.id, "level", value)}
          onSet={(value) => say(`set the level of ${lower} of ${whose}`, "effect_level_db", Math.max(-48, Math.min(24, value)))}
          onAutomatic={() => say(`give the level of ${lower} of ${whose} back`, "effect_level_db", undefined)}
        />
      </div>
      <Follows shaped={shaped} driven={driven} can={isOfAll} quiet />
    </div>
  );
}
