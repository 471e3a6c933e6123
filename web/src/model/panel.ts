// The panel: what its controls drive, how their values are read, and where its parts stand.
import type { Fact, InstrumentView, Schemas } from "../api/client";
import { drivenOf, effectName, isByRatio, nearest, ROUTES_OF_WHOLE, unitOf } from "./effects";
import {
  BRIGHTNESS,
  BRIGHTNESS_DRIVEN,
  courseDriven,
  type Driven,
  LOUDNESS,
  LOUDNESS_DRIVEN,
  movementDriven,
  PITCH,
  PITCH_DRIVEN,
  type Route,
  routeSaid,
  same,
  slowMovements,
  START_DRIVEN,
} from "./driving";
import { count, decibels, doublings, octaves, share, signed, time, type Unit } from "./units";

export type Part = Schemas["PanelPart"];
export type Page = Schemas["PanelPage"];
export type Panel = Schemas["Panel"];
export type Preset = Schemas["Preset"];
export type PartKind = Schemas["PartKind"];
export type Place = Schemas["PartBox"];
export type Colour = Schemas["Colour"];
type Program = InstrumentView["program"];
type Point = Schemas["CurvePoint"];
type Kinds = Schemas["EffectView"][];

/** Of a page (`instrument::PAGE_COLUMNS`, `MOST_ROWS`). */
export const PAGE_COLUMNS = 36;
export const MOST_ROWS = 120;
/** Rows that are always shown. */
export const LEAST_ROWS = 21;
export const MOST_PARTS = 256;

/** What a part can be, as it is called, and how large a new one is (`instrument::PartKind::size`). */
export const KINDS: { kind: PartKind; name: string; size: [wide: number, high: number] }[] = [
  { kind: "slider", name: "slider", size: [10, 3] },
  { kind: "switch", name: "switch", size: [7, 3] },
  { kind: "choice", name: "choice", size: [10, 3] },
  { kind: "number", name: "number", size: [6, 3] },
  { kind: "text", name: "text", size: [12, 3] },
  { kind: "picture", name: "picture", size: [12, 6] },
  { kind: "meter", name: "level meter", size: [10, 3] },
  { kind: "course", name: "course of loudness", size: [10, 5] },
  { kind: "keyboard", name: "keyboard", size: [36, 4] },
];

export const COLOURS: Colour[] = ["stone", "moss", "water", "clay", "straw", "heather"];

export const hasValue = (kind: PartKind) => ["slider", "switch", "choice", "number"].includes(kind);

/** A name that nothing else has. */
export const freshName = () => 10_000 + Math.floor(Math.random() * 2 ** 40);

// What a control drives

/** Something that a control drives: the route, whose it is, and how it is called. */
export interface Driving {
  /** The name under which the route is said. */
  own: number;
  route: Schemas["Route"];
  driven: Driven;
  /** «Front rank», «reverb of the whole». */
  of: string;
  /** What it comes to, where that is read in place of how far it is driven. */
  comes?: Comes;
}

/** Of a value that is driven so far, and how far for a value. */
export interface Comes {
  to: (does: number) => number;
  from: (value: number) => number;
  unit: Unit;
}

/** Something that can be driven: of what, and what has to be said beside the route. */
export interface Drivable {
  own: number;
  driven: Driven;
  of: string;
  from: number;
  to: number;
  /** Where there is no filter yet, one that takes nothing away. */
  beside?: { strand: number; fact: Fact; value: unknown }[];
}

const level = (strand: number): Driven => ({ to: { strand_level: strand }, name: "level", unit: decibels, most: 96, first: -96 });
const times = courseDriven(LOUDNESS).map((one) => ({ ...one, name: one.name.replace("its ", "") }));
const ofShape: Driven[] = [...BRIGHTNESS_DRIVEN, ...PITCH_DRIVEN, ...LOUDNESS_DRIVEN, ...times, ...START_DRIVEN];
/** The filter that is there for its control: it takes nothing that is heard. */
const OPEN_HZ = 20_000;

function effectsNamed(program: Program, kinds: Kinds): { own: number; driven: Driven; of: string; comes: Comes }[] {
  const label = (kind: Schemas["EffectKind"]) => kinds.find((one) => one.kind === kind)?.label ?? kind;
  return program.buses.flatMap((bus) =>
    bus.effects.flatMap((effect) =>
      (kinds.find(({ kind }) => kind === effect.kind)?.settings ?? []).flatMap((row, place) =>
        row.unit === "choice"
          ? []
          : [
              {
                own: ROUTES_OF_WHOLE,
                driven: drivenOf(effect.id, place, row),
                of: `${effectName(bus.effects, effect, label)} of ${bus.id === 0 ? "the whole" : bus.name}`,
                comes: {
                  to: (does) =>
                    nearest(
                      row,
                      isByRatio(row) ? (effect.settings[place] ?? row.first) * 2 ** does : (effect.settings[place] ?? row.first) + does,
                    ),
                  from: (value) => {
                    const base = effect.settings[place] ?? row.first;
                    return isByRatio(row) ? Math.log2(Math.max(1e-9, value) / Math.max(1e-9, base)) : value - base;
                  },
                  unit: unitOf(row),
                },
              },
            ],
      ),
    ),
  );
}

/** All that a control can drive, by what it is of. */
export function drivables(program: Program, kinds: Kinds): Drivable[] {
  const ofStrand = program.strands.flatMap((strand): Drivable[] => {
    const shape = program.shapes.find(({ id }) => id === strand.shape);
    const beside = shape?.filter
      ? []
      : [
          { strand: strand.id, fact: "filter_form" as const, value: { passes: "low", poles: 2 } },
          { strand: strand.id, fact: "filter_cutoff_hz" as const, value: OPEN_HZ },
        ];
    const of = strand.name;
    const one = (to: unknown, from: number, most: number): Drivable[] => {
      const driven = ofShape.find((other) => same(other.to, to));
      return driven ? [{ own: strand.id, driven, of, from, to: most }] : [];
    };
    return [
      { own: ROUTES_OF_WHOLE, driven: level(strand.id), of, from: -96, to: 0 },
      ...one("cutoff", shape?.filter ? -2_400 : -6_000, shape?.filter ? 2_400 : 0).map((cutoff) => ({ ...cutoff, beside })),
      ...(shape?.filter ? one("resonance", 0, 18) : []),
      ...one("pitch", -100, 100),
      ...one("place", -1, 1),
      ...one({ course_time: [LOUDNESS, "attack"] }, 0, 6),
      ...one({ course_time: [LOUDNESS, "decay"] }, -3, 3),
      ...one({ course_time: [LOUDNESS, "release"] }, -3, 3),
      ...one("sample_start", 0, 0.2),
    ];
  });
  const ofEffects = effectsNamed(program, kinds).map((one): Drivable =>
    one.driven.name === "mix" ? { ...one, from: 0, to: 50 } : { ...one, from: -one.driven.first, to: one.driven.first },
  );
  return [...ofStrand, ...ofEffects];
}

const COURSES: Record<number, string> = { [BRIGHTNESS.course]: "brightness", [PITCH.course]: "pitch" };

/** What of a shape's slow movements and courses can be driven. */
const movingOf = (shape: Schemas["Shape"] | undefined): Driven[] =>
  shape
    ? [
        ...slowMovements(shape).flatMap(({ id }, n) =>
          movementDriven(id).map((one) => ({ ...one, name: `${one.name} of slow movement ${n + 1}` })),
        ),
        ...shape.courses.flatMap(({ id }) =>
          courseDriven(id).map((one) => ({ ...one, name: `${one.name.replace("its ", "")} of ${COURSES[id] ?? "a course"}` })),
        ),
      ]
    : [];

/** Something that has no name here: it is seen, and can be let go. */
const other = (to: Driven["to"]): Driven => ({ to, name: "another number", unit: count, most: 48_000, first: 1 });

/** What a route of a strand drives, as it is called. */
export function nameOfDriven(program: Program, strand: Schemas["Strand"], to: Driven["to"]): Driven {
  const shape = program.shapes.find(({ id }) => id === strand.shape);
  return [...ofShape, ...movingOf(shape)].find((one) => same(one.to, to)) ?? other(to);
}

/** All that a control drives, in an order that stays. */
export function drivingsOf(program: Program, kinds: Kinds, control: number): Driving[] {
  // What follows its controller, it drives too: so does a file that others made.
  const controller = program.controls.find(({ id }) => id === control)?.controller ?? undefined;
  const isIt = ({ from }: Schemas["Route"]) => same(from, { control }) || (controller !== undefined && same(from, { controller }));
  const effects = effectsNamed(program, kinds);
  const ofWhole = (program.routes ?? []).filter(isIt).flatMap((route): Driving[] => {
    const strand = program.strands.find(({ id }) => same(route.to, { strand_level: id }));
    if (strand) return [{ own: ROUTES_OF_WHOLE, route, driven: level(strand.id), of: strand.name }];
    const effect = effects.find(({ driven }) => same(driven.to, route.to));
    return [effect ? { ...effect, route } : { own: ROUTES_OF_WHOLE, route, driven: other(route.to), of: "the whole" }];
  });
  const ofStrands = program.strands.flatMap((strand) =>
    (program.shapes.find(({ id }) => id === strand.shape)?.routes ?? []).filter(isIt).flatMap((route): Driving[] => {
      const driven = nameOfDriven(program, strand, route.to);
      return [{ own: strand.id, route, driven, of: strand.name, ...timeOf(program, strand.id, route) }];
    }),
  );
  // Routes have names by chance, and stand in the order of these.
  const placeOf = ({ of }: Driving) => {
    const place = program.strands.findIndex(({ name }) => name === of);
    return place < 0 ? program.strands.length : place;
  };
  const inOrder = (one: Driving, other: Driving) =>
    placeOf(one) - placeOf(other) || one.own - other.own || one.driven.name.localeCompare(other.driven.name);
  // Levels of whole strands come first.
  return [...ofWhole.sort(inOrder), ...ofStrands.sort(inOrder)];
}

/** The value of a curve at a place; straight where nothing is drawn. */
export function curveAt(points: Point[], at: number): number {
  if (points.length === 0) return at;
  const after = points.findIndex((point) => point.at >= at);
  if (after < 0) return points[points.length - 1]!.value;
  if (after === 0) return points[0]!.value;
  const [from, to] = [points[after - 1]!, points[after]!];
  return from.value + ((to.value - from.value) * (at - from.at)) / Math.max(1e-9, to.at - from.at);
}

const pointsOf = (program: Program, route: Schemas["Route"]) => routeSaid(program, route).curve ?? [];

/** Level of a voice is only lowered by what drives it (`program::Route::under_db`). */
const under = ({ to, amount }: Pick<Schemas["Route"], "to" | "amount">) => (to === "level" ? Math.max(0, amount) : 0);

/** What a route does where its control stands, in the unit of what it drives. */
export const doesAt = (program: Program, route: Schemas["Route"], value: number) =>
  // No nothing with a minus.
  curveAt(pointsOf(program, route), value) * route.amount - under(route) + 0;

/** From which value to which a control drives something. */
export const rangeOf = (program: Program, { route }: Driving) => ({ from: doesAt(program, route, 0), to: doesAt(program, route, 1) });

/** The form of what lies between, from 0 at its least to 1 at its most. */
export function formOf(program: Program, driving: Driving): Point[] {
  const { from, to } = rangeOf(program, driving);
  const points = pointsOf(program, driving.route);
  const all = points.length > 0 ? points : [0, 1].map((at) => ({ at, value: at }));
  const part = (value: number) => (from === to ? value : (value * driving.route.amount - under(driving.route) - from) / (to - from));
  return all.map(({ at, value }) => ({ at, value: part(value) }));
}

/** A route that goes from one value to another by a form: the most that it does, and the curve. */
export function routeWith({ from, to }: { from: number; to: number }, form: Point[], param: Route["to"]): Pick<Route, "amount" | "curve"> {
  const straight = form.every(({ at, value }) => Math.abs(at - value) < 1e-9);
  const plain = straight ? [0, 1].map((at) => ({ at, value: at })) : form;
  const values = plain.map(({ at, value }) => ({ at, does: from + (to - from) * value }));
  // Only lowered: an amount under nothing says how far.
  const most = values.reduce((far, { does }) => (Math.abs(does) > Math.abs(far) ? does : far), 0);
  const amount = most === 0 ? 0 : param === "level" ? -Math.abs(most) : most;
  if (straight && from === 0) return { amount, curve: [] };
  return { amount, curve: values.map(({ at, does }) => ({ at, value: amount === 0 ? 0 : does / amount })) };
}

/** Places of a form that is bent. */
const BENT = 9;

/** A form that is so high in its middle, 0 to 1: early where that is over a half, late where it is under (`program::bent`). */
export function bentForm(middle: number): Point[] {
  const high = Math.min(0.99, Math.max(0.01, middle));
  const k = 2 * Math.log(1 / high - 1);
  return Array.from({ length: BENT }, (_, n) => {
    const at = n / (BENT - 1);
    const value = Math.abs(k) < 1e-6 ? at : Math.expm1(k * at) / Math.expm1(k);
    return { at, value: Math.round(value * 1e4) / 1e4 };
  });
}

// How values are read

const unsigned = (text: string) => text.replace(/^\+/, "");

/** A value as it is read. */
export function readingOf(program: Program, part: Part, value: number, driving: Driving[]): string {
  const as = part.shown_as;
  if (part.kind === "switch" && !(typeof as === "object" && "words" in as)) return value >= 0.5 ? "on" : "off";
  if (typeof as === "object" && "words" in as) return as.words[wordAt(as.words, value)]!;
  if (typeof as === "object") {
    const { low, high, unit } = as.between;
    const digits = Math.abs(high - low) < 10 ? 2 : Math.abs(high - low) < 100 ? 1 : 0;
    const shown = signed(low + (high - low) * value, digits);
    return `${digits > 0 ? shown.replace(/\.?0+$/, "") : shown}${unit ? ` ${unit}` : ""}`;
  }
  const first = driving[0];
  if (as === "share" || !first) return share.show(value);
  const does = doesAt(program, first.route, value);
  if (first.driven.unit === decibels && does <= -96) return "−∞ dB";
  if (first.comes) return first.comes.unit.show(first.comes.to(does));
  const text = first.driven.unit.show(does);
  return does > 0 && first.driven.unit !== doublings && !text.startsWith("+") ? `+${text}` : text;
}

const PARTS_OF_LOUDNESS = { attack: "attack_ms", decay: "decay_ms", release: "release_ms", delay: "delay_ms", hold: "hold_ms" } as const;

const plainTime: Unit = {
  ...time,
  show: (ms) => (ms < 1000 ? `${Number(ms.toPrecision(3))} ms` : `${Number((ms / 1000).toPrecision(3))} s`),
};

/** The time that a route makes longer or shorter, where it drives one of loudness. */
function timeOf(program: Program, own: number, route: Schemas["Route"]): { comes?: Comes } {
  const to = route.to as unknown;
  if (typeof to !== "object" || to === null || !("course_time" in to)) return {};
  const [course, part] = (to as { course_time: [number, keyof typeof PARTS_OF_LOUDNESS] }).course_time;
  const strand = program.strands.find(({ id }) => id === own);
  const shape = program.shapes.find(({ id }) => id === strand?.shape);
  const base = course === LOUDNESS ? shape?.loudness[PARTS_OF_LOUDNESS[part]] : undefined;
  if (base === undefined) return {};
  const from = (ms: number) => Math.log2(Math.max(1e-6, ms) / Math.max(1e-6, base));
  return { comes: { to: (does) => base * 2 ** does, from, unit: plainTime } };
}

/** The word that a value stands for. */
export const wordAt = (words: string[], value: number) => Math.round(value * (words.length - 1));
export const valueOfWord = (words: string[], n: number) => n / (words.length - 1);

/** A value that was typed as it is read; undefined where it is not understood. */
export function parsed(program: Program, part: Part, text: string, driving: Driving[]): number | undefined {
  const as = part.shown_as;
  const fits = (value: number | undefined) =>
    value === undefined || !Number.isFinite(value) ? undefined : Math.min(1, Math.max(0, value));
  if (typeof as === "object" && "words" in as) {
    const n = as.words.findIndex((word) => word.toLowerCase() === text.trim().toLowerCase());
    return n < 0 ? undefined : valueOfWord(as.words, n);
  }
  const number = (unit: string) => {
    const plain = text.trim().replace(/^\+/, "").replace("−", "-").replace(",", ".");
    const bare = unit && plain.toLowerCase().endsWith(unit.toLowerCase()) ? plain.slice(0, -unit.length).trim() : plain;
    return /^-?\d*\.?\d+$/.test(bare) ? Number(bare) : undefined;
  };
  if (typeof as === "object") {
    const { low, high, unit } = as.between;
    const value = number(unit);
    return value === undefined ? undefined : fits((value - low) / (high - low));
  }
  const first = driving[0];
  if (as === "share" || !first) return fits(share.parse(text));
  const wanted = wantedOf(first, text);
  return wanted === undefined ? undefined : fits(valueFor((at) => doesAt(program, first.route, at), wanted));
}

function wantedOf({ driven: { unit }, comes }: Driving, text: string): number | undefined {
  if (/∞/.test(text)) return -96;
  if (comes) {
    const value = comes.unit.parse(text);
    return value === undefined ? undefined : comes.from(value);
  }
  return unit.parse(unit === octaves ? text : unsigned(text.trim()));
}

/** Where something has to stand to do so much: the nearest of many places, then between the two beside it. */
function valueFor(does: (at: number) => number, wanted: number): number {
  const STEPS = 400;
  let best = 0;
  for (let n = 0; n <= STEPS; n++) if (Math.abs(does(n / STEPS) - wanted) < Math.abs(does(best) - wanted)) best = n / STEPS;
  return best;
}

/** What a control does, in a few words: «Front rank out, Back rank in», «cutoff of Front rank and Back rank». */
export function doesWhat(program: Program, driving: Driving[]): string {
  if (driving.length === 0) return "";
  const levels = driving.filter(({ route }) => typeof route.to === "object" && "strand_level" in route.to);
  if (levels.length > 1 && levels.length === driving.length) {
    return levels
      .map((one) => {
        const { from, to } = rangeOf(program, one);
        return `${one.of} ${to > from ? "in" : to < from ? "out" : ""}`.trim();
      })
      .join(", ");
  }
  const byName = new Map<string, string[]>();
  for (const { driven, of } of driving) byName.set(driven.name, [...(byName.get(driven.name) ?? []), of]);
  return [...byName].map(([name, of]) => `${name} of ${of.join(" and ")}`).join(", ");
}

// Where parts stand

export const meets = (one: Place, other: Place) =>
  one.x < other.x + other.wide && other.x < one.x + one.wide && one.y < other.y + other.high && other.y < one.y + one.high;

/** A place within a page. */
export function within({ x, y, wide, high }: Place): Place {
  const w = Math.min(PAGE_COLUMNS, Math.max(2, wide));
  const h = Math.min(MOST_ROWS, Math.max(1, high));
  return { x: Math.min(PAGE_COLUMNS - w, Math.max(0, x)), y: Math.min(MOST_ROWS - h, Math.max(0, y)), wide: w, high: h };
}

/** Where there is room for something: under what one works on, else the first that is free. */
export function roomFor([wide, high]: [number, number], taken: Place[], near?: Place): Place {
  const isFree = (place: Place) => taken.every((other) => !meets(place, other));
  if (near) {
    const under = within({ x: near.x, y: near.y + near.high + 1, wide, high });
    const beside = within({ x: near.x + near.wide + 1, y: near.y, wide, high });
    for (const place of [under, beside]) if (isFree(place)) return place;
  }
  for (let y = 1; y + high <= MOST_ROWS; y++)
    for (let x = Math.min(1, PAGE_COLUMNS - wide); x + wide <= PAGE_COLUMNS; x++)
      if (isFree({ x, y, wide, high })) return { x, y, wide, high };
  return within({ x: 0, y: 0, wide, high });
}

export type Align = "left" | "right" | "top" | "bottom" | "across" | "down" | "alike";

/** The acts for several, and their places after each. */
export const ALIGNS: { align: Align; name: string }[] = [
  { align: "left", name: "left edges in line" },
  { align: "right", name: "right edges in line" },
  { align: "top", name: "upper edges in line" },
  { align: "bottom", name: "lower edges in line" },
  { align: "across", name: "spread across" },
  { align: "down", name: "spread down" },
  { align: "alike", name: "as large as the first" },
];

export function aligned(places: Place[], align: Align): Place[] {
  const first = places[0];
  if (!first) return places;
  const least = (of: (place: Place) => number) => Math.min(...places.map(of));
  const most = (of: (place: Place) => number) => Math.max(...places.map(of));
  const spread = (at: "x" | "y", over: "wide" | "high"): Place[] => {
    const order = places.map((_, n) => n).sort((a, b) => places[a]![at] - places[b]![at]);
    const [low, high] = [least((p) => p[at]), most((p) => p[at] + p[over])];
    const full = places.reduce((sum, place) => sum + place[over], 0);
    const gap = (high - low - full) / Math.max(1, places.length - 1);
    const next = [...places];
    let place = low;
    for (const n of order) {
      next[n] = within({ ...places[n]!, [at]: Math.round(place) });
      place += places[n]![over] + gap;
    }
    return next;
  };
  switch (align) {
    case "left":
      return places.map((place) => ({ ...place, x: least((p) => p.x) }));
    case "right":
      return places.map((place) => within({ ...place, x: most((p) => p.x + p.wide) - place.wide }));
    case "top":
      return places.map((place) => ({ ...place, y: least((p) => p.y) }));
    case "bottom":
      return places.map((place) => within({ ...place, y: most((p) => p.y + p.high) - place.high }));
    case "across":
      return spread("x", "wide");
    case "down":
      return spread("y", "high");
    case "alike":
      return places.map((place) => within({ ...place, wide: first.wide, high: first.high }));
  }
}

/** Whether a part, or a page, is shown where controls stand so. */
export function isShown(part: Pick<Part, "shown_when">, valueOf: (control: number) => number | undefined): boolean {
  const when = part.shown_when;
  const value = when && valueOf(when.control);
  return when == null || value == null || (value >= when.low - 1e-6 && value <= when.high + 1e-6);
}

// Edits on their way

const OF_PART: Partial<Record<Fact, keyof Part>> = {
  part_kind: "kind",
  part_name: "name",
  part_page: "page",
  part_place: "place",
  part_shown_as: "shown_as",
  part_at_first: "at_first",
  part_controller: "controller",
  part_shown_when: "shown_when",
  part_colour: "colour",
  part_text: "text",
  part_picture: "picture",
  part_strand: "strand",
  part_group: "group",
};
const OF_PAGE: Partial<Record<Fact, keyof Page>> = {
  page_name: "name",
  page_colour: "colour",
  page_picture: "picture",
  page_shown_when: "shown_when",
};
const OF_PRESET: Partial<Record<Fact, keyof Preset>> = { preset_name: "name", preset_program: "program", preset_values: "values" };

/** Something that is said of a page, a part or a set of values. */
export interface OfPanel {
  page?: number;
  control?: number;
  preset?: number;
  fact: Fact;
  value: unknown;
}

function freshPart(id: number, kind: PartKind): Part {
  return {
    id,
    kind,
    name: "Control",
    page: null,
    place: { x: 1, y: 1, wide: 10, high: 3 },
    shown_as: "share",
    at_first: 0,
    controller: null,
    shown_when: null,
    colour: null,
    text: "",
    picture: null,
    strand: null,
    group: null,
  };
}

/** A list with a field of one of its own changed; the one that its name makes is there from then on, and gone with it. */
function listed<T extends { id: number }>(list: T[], id: number, field: keyof T, value: unknown, made: T | undefined): T[] {
  if (made) {
    if (value == null) return list.filter((one) => one.id !== id);
    if (!list.some((one) => one.id === id)) return [...list, made];
  }
  return list.map((one) => (one.id === id ? { ...one, [field]: value } : one));
}

/** The panel once an edit of it has arrived. */
export function panelLaid(before: Panel, wishes: OfPanel[]): Panel {
  let panel = before;
  for (const { page, control, preset, fact, value } of wishes) {
    // What the automatic value is, the server knows.
    if (value === undefined) continue;
    if (control !== undefined && OF_PART[fact]) {
      const made = fact === "part_kind" ? freshPart(control, value as PartKind) : undefined;
      panel = { ...panel, parts: listed(panel.parts, control, OF_PART[fact], value, made) };
    } else if (page !== undefined && OF_PAGE[fact]) {
      const made = fact === "page_name" ? { id: page, name: value as string, colour: null, picture: null } : undefined;
      panel = { ...panel, pages: listed(panel.pages, page, OF_PAGE[fact], value, made) };
    } else if (preset !== undefined && OF_PRESET[fact]) {
      const made = fact === "preset_name" ? { id: preset, name: value as string, program: null, values: [] } : undefined;
      panel = { ...panel, presets: listed(panel.presets, preset, OF_PRESET[fact], value, made) };
    }
  }
  return panel;
}
