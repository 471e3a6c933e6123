// What drives a strand: routes, slow movements, courses and the filter, and their names.
import type { Fact, InstrumentView, Schemas } from "../api/client";
import { controllerName, OFFERED } from "./strands";
import { cents, decibels, doublings, octaves, share, type Unit } from "./units";

export type Source = Schemas["DrivingSource"];
export type Param = Schemas["ParamId"];
export type Route = Schemas["RouteSaid"];
export type Movement = Omit<Schemas["Movement"], "id">;
export type DrivenCourse = Omit<Schemas["Course"], "id">;
type Shape = Schemas["Shape"];
type Program = InstrumentView["program"];

/** Parts of a shape that have a number of their own. */
export type PartKind = "route" | "movement" | "course";

/** As many as a voice has room for (`program::MOST_ROUTES` and its like). */
export const MOST = { route: 16, movement: 4, course: 4 };
const LIST = { route: "routes", movement: "movements", course: "courses" } as const;

/** The courses that the cards draw, and the routes that they go by. */
export const BRIGHTNESS = { course: 1, route: 1 };
export const PITCH = { course: 2, route: 2 };
/** The routes of the card for what is human, and the random numbers that they go by. */
export const HUMAN_FROM = 100;
/** The movement by which a held key drifts, and its route. */
export const DRIFT = 120;

/** Those that are laid out by hand: drifting is set with what is human. */
export const slowMovements = ({ movements }: Pick<Schemas["Shape"], "movements">) => movements.filter(({ id }) => id !== DRIFT);

/** A number that nothing else has. */
export const freshPart = () => 1_000 + Math.floor(Math.random() * 2 ** 40);

const OF_FILTER = {
  filter_cutoff_hz: "cutoff_hz",
  filter_key_follow: "key_follow",
  filter_resonance_db: "resonance_db",
  filter_makes_up: "makes_up",
} as const;

export const isOfFilter = (fact: string): fact is keyof typeof OF_FILTER | "filter_form" => fact in OF_FILTER || fact === "filter_form";

/** A shape once a fact of its filter says so. */
export function filterWith(shape: Shape, fact: keyof typeof OF_FILTER | "filter_form", value: unknown): Shape {
  // What a filter is at first, the server knows.
  if (fact === "filter_form") return { ...shape, filter: value && shape.filter ? { ...shape.filter, ...value } : null };
  return shape.filter ? { ...shape, filter: { ...shape.filter, [OF_FILTER[fact]]: value } } : shape;
}

/** A shape, and all curves, once a part of it is as it is wished; gone for `null`. */
export function partsWith(
  program: Program,
  shape: Shape,
  [kind, , number]: [PartKind, number, number],
  value: unknown,
): { shape: Shape; curves: Program["curves"] } {
  const list = shape[LIST[kind]] as { id: number }[];
  const at = list.findIndex(({ id }) => id === number);
  if (value == null) return { shape: { ...shape, [LIST[kind]]: list.filter(({ id }) => id !== number) }, curves: program.curves };
  let part = { ...value, id: number };
  let curves = program.curves;
  if (kind === "route") {
    const { curve: points, ...route } = value as Route;
    // A name that lasts until the server's comes.
    const curve = points && points.length > 0 ? -1 - number : null;
    if (curve !== null) curves = [...curves.filter(({ id }) => id !== curve), { id: curve, points: points! }];
    part = { ...route, id: number, curve } as typeof part;
  }
  const parts = at < 0 ? [...list, part] : list.with(at, part);
  return { shape: { ...shape, [LIST[kind]]: parts }, curves };
}

/** A route as it is said again, with what is changed. */
export function routeSaid(program: Program, route: Schemas["Route"], changed: Partial<Route> = {}): Route {
  const { from, times, to, amount } = route;
  return { from, times: times ?? null, to, amount, curve: program.curves.find(({ id }) => id === route.curve)?.points ?? [], ...changed };
}

/** The same without its number. */
export function said<T extends { id: number }>(part: T): Omit<T, "id"> {
  const { id, ...rest } = part;
  void id;
  return rest;
}

/** Two sources, or two things that are driven, are the same. */
export const same = (one: unknown, other: unknown) => JSON.stringify(one) === JSON.stringify(other);

/** What sources are named by: the slow movements of a shape, and the controls of the panel, where those are known. */
type Moved = Pick<Shape, "movements"> & { controls?: Pick<Schemas["Control"], "id" | "name">[] };

/** A source as it is called within a sentence. */
export function sourceName(source: Source, shape: Moved): string {
  if (typeof source === "string")
    return {
      strike: "the strike",
      key_up_speed: "key-up speed",
      pressure: "pressure",
      key_pressure: "pressure on the key",
      bend: "the bend",
      key: "the key",
    }[source];
  if ("controller" in source) return `${controllerName(source.controller)}`;
  if ("random" in source) return "chance";
  if ("movement" in source) {
    const at = slowMovements(shape).findIndex(({ id }) => id === source.movement);
    return at < 0 ? "a movement that is gone" : `slow movement ${at + 1}`;
  }
  if ("course" in source) return "a course";
  const control = shape.controls?.find(({ id }) => id === source.control);
  return control ? `the control ${control.name}` : "a control of the panel";
}

/** Every source that can be chosen for a strand. */
export function sourcesOf(shape: Moved, chosen?: Source | null): Source[] {
  const all: Source[] = [
    "strike",
    ...slowMovements(shape).map(({ id }) => ({ movement: id })),
    ...OFFERED.map((controller) => ({ controller })),
    "pressure",
    "key_pressure",
    "bend",
    "key",
    "key_up_speed",
    { random: 1 },
    ...(shape.controls ?? []).map(({ id }) => ({ control: id })),
  ];
  return chosen && !all.some((one) => same(one, chosen)) ? [...all, chosen] : all;
}

/** The controllers that anything in some shapes follows. */
export function controllersOf(shapes: Shape[]): number[] {
  const of = (source: Source | null | undefined) =>
    source && typeof source === "object" && "controller" in source ? [source.controller] : [];
  return [...new Set(shapes.flatMap(({ routes }) => routes.flatMap(({ from, times }) => [...of(from), ...of(times)])))];
}

/** What is driven: how it is called, its unit, and how far it goes. */
export interface Driven {
  to: Param;
  name: string;
  unit: Unit;
  most: number;
  /** How far at first. */
  first: number;
}

export const LOUDNESS_DRIVEN: Driven[] = [
  { to: "level", name: "level", unit: decibels, most: 96, first: 24 },
  { to: "place", name: "place", unit: share, most: 2, first: 0.5 },
];
export const BRIGHTNESS_DRIVEN: Driven[] = [
  { to: "cutoff", name: "cutoff", unit: octaves, most: 12_000, first: 2_400 },
  { to: "resonance", name: "resonance", unit: decibels, most: 40, first: 6 },
];
export const PITCH_DRIVEN: Driven[] = [{ to: "pitch", name: "pitch", unit: cents, most: 4_800, first: 20 }];
export const START_DRIVEN: Driven[] = [
  { to: "sample_start", name: "start", unit: share, most: 1, first: 0.05 },
  { to: "loop_start", name: "loop start", unit: share, most: 1, first: 0.05 },
  { to: "loop_length", name: "loop length", unit: share, most: 1, first: 0.1 },
];
export const movementDriven = (id: number): Driven[] => [
  { to: { movement_rate: id }, name: "rate", unit: doublings, most: 10, first: 1 },
  { to: { movement_depth: id }, name: "depth", unit: share, most: 4, first: 1 },
];
/** The name by which the times of loudness are driven (`program::CourseId::LOUDNESS`). */
export const LOUDNESS = 0;

/** Times of a course, each twice as long for an octave. */
export const courseDriven = (id: number): Driven[] =>
  (["attack", "decay", "release", "delay", "hold"] as const).map((time) => ({
    // The API's description has no form for a pair of unlike parts.
    to: { course_time: [id, time] } as unknown as Param,
    name: `its ${time}`,
    unit: doublings,
    most: 10,
    first: 1,
  }));

export const WAVES: { value: Schemas["Wave"]; name: string }[] = [
  { value: "sine", name: "sine" },
  { value: "triangle", name: "triangle" },
  { value: "saw_up", name: "saw, rising" },
  { value: "saw_down", name: "saw, falling" },
  { value: "square", name: "square" },
  { value: "steps", name: "random steps" },
  { value: "smooth", name: "random, smooth" },
];

/** What a filter lets pass and how steeply, as one choice. */
export const FORMS: { value: string; name: string; form: Schemas["FilterForm"] | null }[] = [
  { value: "none", name: "no filter", form: null },
  ...(["low", "high"] as const).flatMap((passes) =>
    [1, 2, 4].map((poles) => ({
      value: `${passes} ${poles}`,
      name: `${passes}-pass, ${poles} ${poles === 1 ? "pole" : "poles"}`,
      form: { passes, poles },
    })),
  ),
  ...(["band", "notch"] as const).flatMap((passes) =>
    [2, 4].map((poles) => ({
      value: `${passes} ${poles}`,
      name: `${passes === "band" ? "band-pass" : "notch"}, ${poles} poles`,
      form: { passes, poles },
    })),
  ),
];

/** Curves that are offered: values at 0, a quarter, a half, three quarters and all of the way. */
export const CURVES: { name: string; values: number[] }[] = [
  { name: "straight", values: [0, 0.25, 0.5, 0.75, 1] },
  { name: "early", values: [0, 0.6, 0.84, 0.95, 1] },
  { name: "late", values: [0, 0.05, 0.16, 0.4, 1] },
  { name: "in the middle", values: [0, 0.1, 0.5, 0.9, 1] },
  { name: "backwards", values: [1, 0.75, 0.5, 0.25, 0] },
];

export type FilterFact = Extract<Fact, `filter_${string}`>;
