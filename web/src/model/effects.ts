// Rows of effects: of a strand, of the whole, and those that several strands send to.
import type { Fact, InstrumentView, Schemas } from "../api/client";
import { type Driven, partsWith } from "./driving";
import { cents, count, decibels, doublings, frequency, hertz, percent, ratio, seconds, time, type Unit } from "./units";

type Program = InstrumentView["program"];
export type Effect = Schemas["Effect"];
export type Bus = Schemas["Bus"];
export type EffectRow = Schemas["SettingRow"];
type EffectKind = Schemas["EffectKind"];

/** The row of the whole, and that of a strand (`program::BusId`). */
export const WHOLE = 0;
export const ofStrand = (strand: number) => 2 * strand + 1;
export const isShared = (bus: number) => bus !== WHOLE && bus % 2 === 0;
/** The shape under whose name routes of the whole are said (`program::ROUTES_OF_WHOLE`). */
export const ROUTES_OF_WHOLE = 2 ** 53 - 1;
/** As many as there may be (`program::MOST_IN_ROW`, and rows that are shared). */
export const MOST_IN_ROW = 16;
export const MOST_SHARED = 8;

export const effectsOf = ({ buses }: Program, bus: number): Effect[] => buses.find(({ id }) => id === bus)?.effects ?? [];

export const sharedOf = ({ buses }: Program): Bus[] => buses.filter(({ id }) => isShared(id));

/** A shared row that is not there yet. */
export function freshBus({ buses }: Program): number {
  const used = new Set(buses.map(({ id }) => id));
  return [...Array(MOST_SHARED + 1).keys()].map((n) => 2 * n + 2).find((id) => !used.has(id)) ?? 2;
}

/** Short: there are eight side by side. */
const kilohertz: Unit = {
  ...frequency,
  show: (v) => (v < 1000 ? `${Math.round(v)} Hz` : `${Math.round(v / 10) / 100} kHz`),
};
const degrees: Unit = {
  show: (v) => `${Math.round(v)}°`,
  parse: (t) => percent.parse(t.replace(/\s*(°|degrees?)\s*$/i, "")),
  step: 15,
  fine: 1,
};
const bits: Unit = { ...count, show: (v) => `${Math.round(v * 10) / 10} bits`, parse: (t) => count.parse(t), step: 1, fine: 0.5 };
const plain: Unit = { ...ratio, show: (v) => String(Math.round(v * 100) / 100), step: 0.1, fine: 0.01 };
const roundSeconds: Unit = { ...seconds, show: (v) => `${Math.round(v * 100) / 100} s`, step: 0.1, fine: 0.01 };
const quarters: Unit = {
  show: (v) => (v === 0 ? "off" : `${Math.round(v * 1000) / 1000} beats`),
  parse: (t) => (/^\s*off\s*$/i.test(t) ? 0 : count.parse(t)),
  step: 0.25,
  fine: 0.125,
};
const preciseCents: Unit = { ...cents, show: (v) => `${Math.round(v * 10) / 10} ct`, fine: 1 };

/** How a setting is read and written. */
export function unitOf({ unit, high, name }: EffectRow): Unit {
  switch (unit) {
    case "hertz":
      return high <= 50 ? { ...hertz, show: (v) => `${Math.round(v * 100) / 100} Hz`, step: 0.5, fine: 0.05 } : kilohertz;
    case "milliseconds":
      return { ...time, step: 5, fine: 0.5 };
    case "seconds":
      return roundSeconds;
    case "percent":
      return { ...percent, step: 5 };
    case "decibels":
      return decibels;
    case "cents":
      return preciseCents;
    case "degrees":
      return degrees;
    case "bits":
      return bits;
    case "quarters":
      return quarters;
    case "ratio":
      return name === "Ratio" ? ratio : plain;
    case "choice":
      return count;
  }
}

export const isByRatio = ({ unit }: EffectRow) => unit === "hertz" || unit === "seconds" || unit === "ratio";

/** Where the mix of an effect that is new in a row stands: what strands send is heard beside them, so that of a shared row only what comes of it is. */
export function firstOf(bus: number, rows: EffectRow[]): { fact: Fact; value: number }[] {
  const mix = rows.findIndex(({ name }) => name === "Mix");
  return isShared(bus) && mix >= 0 ? [{ fact: settingFact(mix), value: 100 }] : [];
}

/** A setting, as something that is driven. */
export function drivenOf(effect: number, place: number, row: EffectRow): Driven {
  const name = row.name.toLowerCase();
  // The API's description has no form for a pair of unlike parts.
  const to = { effect: [effect, place] } as unknown as Driven["to"];
  if (isByRatio(row)) return { to, name, unit: doublings, most: Math.log2(row.high / row.low), first: 1 };
  const span = row.high - row.low;
  return { to, name, unit: unitOf(row), most: span, first: span / 4 };
}

/** Every setting of an effect that can be driven. */
export const drivenOfEffect = (effect: Effect, rows: EffectRow[]): Driven[] =>
  rows.flatMap((row, place) => (row.unit === "choice" ? [] : [drivenOf(effect.id, place, row)]));

export const nearest = (row: EffectRow, value: number) => Math.min(row.high, Math.max(row.low, value));

/** Settings are facts by their places, from 1. */
export const settingFact = (place: number) => `effect_setting${place + 1}` as Fact;

/** The place that puts an effect before another of a row, or at its end: half way between those that it comes between. */
export function placeBefore(places: number[], before: number): number {
  const [prior, next] = [places[before - 1], places[before]];
  if (prior === undefined) return next === undefined ? 0 : next - 1;
  return next === undefined ? prior + 1 : (prior + next) / 2;
}

/** What is driven of the whole, as a shape of its own: routes stand there, and nothing else. */
export const shapeOfWhole = (program: Program): Schemas["Shape"] =>
  ({ id: ROUTES_OF_WHOLE, routes: program.routes ?? [], movements: [], courses: [], filter: null }) as unknown as Schemas["Shape"];

/** Something that is said of a row, of what is sent to it, or of an effect in it. */
export interface OfEffects {
  effect?: [bus: number, effect: number];
  send?: [strand: number, bus: number];
  bus?: number;
  part?: [kind: string, shape: number, number: number];
  fact: Fact;
  value: unknown;
}

/** Fields of an effect that stand there under another name. */
const OF_EFFECT: Partial<Record<Fact, keyof Effect>> = { effect_on: "on", effect_level_db: "level_db" };

/** The program once an edit of effects has arrived, as far as that is known without the server: what is new has its settings from there. */
export function effectsLaid(before: Program, wishes: OfEffects[]): Program {
  let program = before;
  for (const { effect, send, bus, part, fact, value } of wishes) {
    if (value === undefined) continue;
    if (effect) {
      const changed = (one: Effect): Effect[] => {
        if (one.id !== effect[1]) return [one];
        if (fact === "effect_kind") return value === null ? [] : [one];
        const field = OF_EFFECT[fact];
        if (field) return [{ ...one, [field]: value }];
        const place = /^effect_setting(\d)$/.exec(fact)?.[1];
        return [place ? { ...one, settings: one.settings.with(Number(place) - 1, value as number) } : one];
      };
      const buses = program.buses.map((row) => (row.id === effect[0] ? { ...row, effects: row.effects.flatMap(changed) } : row));
      program = { ...program, buses };
    } else if (bus !== undefined) {
      const field = fact === "bus_name" ? "name" : "gain_db";
      const buses = program.buses.flatMap((row) => (row.id !== bus ? [row] : value === null ? [] : [{ ...row, [field]: value }]));
      program = { ...program, buses };
    } else if (send) {
      const strands = program.strands.map((strand) => {
        if (strand.id !== send[0]) return strand;
        const others = strand.sends.filter(({ bus }) => bus !== send[1]);
        return { ...strand, sends: value === null ? others : [...others, { bus: send[1], gain_db: value as number }] };
      });
      program = { ...program, strands };
    } else if (part?.[1] === ROUTES_OF_WHOLE) {
      const { shape, curves } = partsWith(program, shapeOfWhole(program), part as Parameters<typeof partsWith>[2], value);
      program = { ...program, routes: shape.routes, curves };
    }
  }
  return program;
}

/** A name that no other effect has. */
export const freshEffect = () => 1 + Math.floor(Math.random() * 2 ** 40);

/** What an effect is called in a sentence, where a row has two of a kind with their numbers. */
export function effectName(row: Effect[], effect: Effect, label: (kind: EffectKind) => string): string {
  const alike = row.filter(({ kind }) => kind === effect.kind);
  const name = label(effect.kind);
  return alike.length > 1 ? `${name} ${alike.indexOf(effect) + 1}` : name;
}
