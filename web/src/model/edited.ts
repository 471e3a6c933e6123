// What an instrument will look like once an edit that is on its way has arrived.
import type { Fact, InstrumentView, Plan, Schemas, TakeView } from "../api/client";
import { filterWith, isOfFilter, partsWith, type PartKind } from "./driving";
import { effectsLaid, ROUTES_OF_WHOLE } from "./effects";
import { panelLaid } from "./panel";
import { takeId } from "./regions";

/** What somebody wants a field to say. */
export interface Wish {
  take?: number | undefined;
  longTake?: number;
  /** A region, by its strand and its number. */
  region?: [strand: number, number: number];
  /** A strand, by its name. */
  strand?: number;
  /** An effect, by its row and its name. */
  effect?: [bus: number, effect: number];
  /** What a strand sends to a row. */
  send?: [strand: number, bus: number];
  /** A row that strands send to. */
  bus?: number;
  /** A page of the panel, a part of it, or a set of its values, by its name. */
  page?: number;
  control?: number;
  preset?: number;
  /** All that is found of a kind. */
  findingKind?: number;
  /** A mark by ear, by its number. */
  mark?: number;
  /** A part of a shape, by its kind, the shape that a strand or region has for itself, and its number. */
  part?: [kind: PartKind, shape: number, number: number];
  fact: Fact;
  /** `undefined` goes back to the automatic value. */
  value: unknown;
}

type Shape = Schemas["Shape"];
type Program = InstrumentView["program"];

/** An edit: some fields, or another plan. */
export interface Edit {
  wishes: Wish[];
  plan?: Plan;
}

/** Facts of a take that stand in its treatment under the same name. */
const OF_TREATMENT = [
  "start_frame",
  "end_frame",
  "fade_in_frames",
  "fade_out_frames",
  "fade_curve",
  "pan",
  "tune_cents",
  "gain_db",
  "root_key",
  "recording_cents",
  "loop",
] as const satisfies Fact[];

/** Facts of a region that are limits of where it lies. */
const LIMITS = {
  region_low_key: ["keys", "low"],
  region_high_key: ["keys", "high"],
  region_low_strike: ["strikes", "low"],
  region_high_strike: ["strikes", "high"],
} as const;

/** Facts of a strand that stand in the program under another name. */
const OF_STRAND = {
  strand_name: "name",
  strand_muted: "muted",
  strand_gain_db: "gain_db",
  strand_pan: "pan",
  strand_tune_cents: "tune_cents",
  strand_transpose_keys: "transpose_keys",
  strand_on: "on",
} as const;

/** Facts of a strand that stand among its voices. */
const OF_VOICES = {
  strand_most_voices: "most",
  strand_goes_first: "goes_first",
  strand_same_key: "same_key",
  strand_glide: "glide",
} as const;

/** Facts that stand in the loudness of a shape. */
const OF_LOUDNESS = {
  shape_delay_ms: "delay_ms",
  shape_attack_ms: "attack_ms",
  shape_hold_ms: "hold_ms",
  shape_decay_ms: "decay_ms",
  shape_sustain_db: "sustain_db",
  shape_release_ms: "release_ms",
  shape_strike_to_level: "velocity_to_level",
} as const;

/** Facts that say how a part of it bends, by their places. */
const OF_BENDS = { shape_attack_bend: 0, shape_decay_bend: 1, shape_release_bend: 2 } as const;

/** Facts of a strand that are limits of where it sounds. */
const STRAND_LIMITS = {
  strand_low_key: ["keys", "low"],
  strand_high_key: ["keys", "high"],
  strand_low_strike: ["strikes", "low"],
  strand_high_strike: ["strikes", "high"],
} as const;

const isOfStrand = (fact: string): fact is keyof typeof OF_STRAND => fact in OF_STRAND;
const isStrandLimit = (fact: string): fact is keyof typeof STRAND_LIMITS => fact in STRAND_LIMITS;

const among = <T extends string>(all: readonly T[], fact: string): fact is T => (all as readonly string[]).includes(fact);
const isLimit = (fact: string): fact is keyof typeof LIMITS => fact in LIMITS;

function takeWith(take: TakeView, wishes: Wish[]): TakeView {
  const own = wishes.filter((wish) => wish.take === take.id && among(OF_TREATMENT, wish.fact));
  if (own.length === 0) return take;
  const said = Object.fromEntries(own.map(({ fact, value }) => [fact, value]));
  // What the automatic value is, the server knows.
  const known = Object.fromEntries(own.filter(({ value }) => value !== undefined).map(({ fact, value }) => [fact, value]));
  return { ...take, correction: { ...take.correction, ...said }, treatment: take.treatment && { ...take.treatment, ...known } };
}

function regionsWith(view: InstrumentView, wishes: Wish[]): Pick<InstrumentView, "program" | "regions"> {
  let program = { ...view.program, regions: [...view.program.regions] };
  const regions = [...view.regions];
  const at = new Map(view.program.regions.map(({ key }, n) => [`${key.strand}/${view.regions[n]!.number}`, n]));
  for (const { region, fact, value } of wishes) {
    const n = region && at.get(region.join("/"));
    if (n === undefined) continue;
    const byHand = regions[n]!.by_hand.filter((other) => other !== fact);
    regions[n] = { ...regions[n]!, by_hand: value === undefined ? byHand : [...byHand, fact] };
    // What the automatic value is, the server knows.
    const shaped = value === undefined ? undefined : shapedBy(fact, value);
    if (shaped) program = withShape(program, { region: n }, regions[n].own_shape, shaped);
    if (typeof value !== "number") continue;
    const before = program.regions[n]!;
    const treatment = view.takes.find((take) => take.id === takeId(view.program.samples[before.sample]?.source))?.treatment;
    if (fact === "key_follow") program.regions[n] = { ...before, key_follow: value };
    // These stand beside what its take has.
    if (fact === "region_gain_db") program.regions[n] = { ...before, gain_db: (treatment?.gain_db ?? 0) + value };
    if (fact === "region_tune_cents") program.regions[n] = { ...before, tune_cents: (treatment?.tune_cents ?? 0) + value };
    if (!isLimit(fact)) continue;
    const [axis, end] = LIMITS[fact];
    const span = { ...before.when[axis], [end]: value, [end === "low" ? "fade_in" : "fade_out"]: null };
    program.regions[n] = { ...before, when: { ...before.when, [axis]: span } };
  }
  return { program, regions };
}

/** Something that has a shape: a strand or a region, by its place. */
type Owner = { strand: number } | { region: number };

/** Of which something is said has a shape for itself, which is its strand's at first. */
function withShape(program: Program, owner: Owner, own: number, change: (before: Shape) => Partial<Shape>): Program {
  const of = (id: number | null | undefined) => program.shapes.find((shape) => shape.id === id);
  const region = "region" in owner ? program.regions[owner.region] : undefined;
  const strand = "strand" in owner ? program.strands[owner.strand] : program.strands.find(({ id }) => id === region!.key.strand);
  const before = of(region?.shape) ?? of(strand?.shape);
  if (!before) return program;
  const shape = { ...before, ...change(before), id: own };
  const shapes = [...program.shapes.filter(({ id }) => id !== own), shape];
  if ("region" in owner) return { ...program, shapes, regions: program.regions.with(owner.region, { ...region!, shape: own }) };
  return { ...program, shapes, strands: program.strands.with(owner.strand, { ...strand!, shape: own }) };
}

/** Once a number of loudness or of the filter is as it is said; `undefined` where it is neither. */
function shapedBy(fact: Fact, value: unknown): ((before: Shape) => Partial<Shape>) | undefined {
  if (fact in OF_LOUDNESS) {
    const set = { [OF_LOUDNESS[fact as keyof typeof OF_LOUDNESS]]: value };
    return ({ loudness }) => ({ loudness: { ...loudness, ...set } });
  }
  if (fact in OF_BENDS && typeof value === "number") {
    const place = OF_BENDS[fact as keyof typeof OF_BENDS];
    return ({ loudness }) => ({ loudness: { ...loudness, bends: loudness.bends.with(place, value) } });
  }
  return isOfFilter(fact) ? (before) => filterWith(before, fact, value) : undefined;
}

/** The program with parts of shapes as they are wished. */
function partsLaid(view: InstrumentView, before: Program, wishes: Wish[]): Program {
  let program = before;
  for (const { part, value } of wishes) {
    // What was said before it, the server knows.
    if (!part || value === undefined) continue;
    const strand = program.strands.findIndex(({ id }) => id === part[1]);
    const region = strand < 0 ? view.regions.findIndex((one) => one.own_shape === part[1]) : -1;
    if (strand < 0 && region < 0) continue;
    let { curves } = program;
    const changed = (before: Shape) => {
      const laid = partsWith(program, before, part, value);
      curves = laid.curves;
      return laid.shape;
    };
    program = { ...withShape(program, strand < 0 ? { region } : { strand }, part[1], changed), curves };
  }
  return program;
}

function strandsWith(view: InstrumentView, wishes: Wish[]): Pick<InstrumentView, "program" | "strands"> {
  const strands = [...view.strands];
  let program = { ...view.program, strands: [...view.program.strands] };
  for (const { strand, fact, value } of wishes) {
    const n = program.strands.findIndex(({ id }) => id === strand);
    if (n < 0) continue;
    const byHand = strands[n]!.by_hand.filter((other) => other !== fact);
    strands[n] = { ...strands[n]!, by_hand: value === undefined ? byHand : [...byHand, fact] };
    // What the automatic value is, the server knows.
    if (value === undefined) continue;
    const before = program.strands[n]!;
    const shaped = shapedBy(fact, value);
    if (shaped) program = withShape(program, { strand: n }, strand!, shaped);
    else if (fact in OF_VOICES) {
      const set = { [OF_VOICES[fact as keyof typeof OF_VOICES]]: value };
      program.strands[n] = { ...before, voices: { ...before.voices, ...set } };
    } else if (isOfStrand(fact)) program.strands[n] = { ...before, [OF_STRAND[fact]]: value };
    if (!isStrandLimit(fact)) continue;
    const [axis, end] = STRAND_LIMITS[fact];
    const span = { ...before.when[axis], [end]: value, [end === "low" ? "fade_in" : "fade_out"]: null };
    program.strands[n] = { ...before, when: { ...before.when, [axis]: span } };
  }
  return { program, strands };
}

/** The instrument with an edit laid over it, as far as its outcome is known without the server. */
export function withEdit(view: InstrumentView, { wishes, plan }: Edit): InstrumentView {
  const map = wishes.filter((wish) => !wish.take && !wish.region && !wish.part && wish.fact in view.map && wish.value !== undefined);
  let seen = {
    ...view,
    plan: plan ?? view.plan,
    takes: wishes.some((wish) => wish.take !== undefined) ? view.takes.map((take) => takeWith(take, wishes)) : view.takes,
    map: map.length > 0 ? { ...view.map, ...Object.fromEntries(map.map(({ fact, value }) => [fact, value])) } : view.map,
  };
  if (wishes.some((wish) => wish.strand !== undefined)) seen = { ...seen, ...strandsWith(seen, wishes) };
  if (wishes.some((wish) => wish.region)) seen = { ...seen, ...regionsWith(seen, wishes) };
  const ofEffects = wishes.filter(({ effect, send, bus, part }) => effect || send || bus !== undefined || part?.[1] === ROUTES_OF_WHOLE);
  if (ofEffects.length > 0) seen = { ...seen, program: effectsLaid(seen.program, ofEffects) };
  const ofPanel = wishes.filter(({ page, control, preset }) => [page, control, preset].some((one) => one !== undefined));
  if (ofPanel.length > 0) seen = { ...seen, panel: panelLaid(seen.panel, ofPanel) };
  if (wishes.some((wish) => wish.part)) seen = { ...seen, program: partsLaid(seen, seen.program, wishes) };
  return seen;
}

/** What a wish is made from, as a command says it: what stands in its field now; `undefined` where the page does not know. */
export function madeFrom(view: InstrumentView, { take, region, strand, fact }: Wish): "automatic" | { value: unknown } | undefined {
  if (take !== undefined && fact !== "loop" && among(OF_TREATMENT, fact)) {
    const said = view.takes.find((one) => one.id === take)?.correction;
    return said && (said[fact] == null ? "automatic" : { value: said[fact] });
  }
  if (region && isLimit(fact)) {
    const n = view.program.regions.findIndex(({ key }, n) => key.strand === region[0] && view.regions[n]!.number === region[1]);
    if (n < 0) return undefined;
    const [axis, end] = LIMITS[fact];
    return view.regions[n]!.by_hand.includes(fact) ? { value: view.program.regions[n]!.when[axis][end] } : "automatic";
  }
  if (strand !== undefined && isOfStrand(fact)) {
    const n = view.program.strands.findIndex(({ id }) => id === strand);
    if (n < 0) return undefined;
    return view.strands[n]!.by_hand.includes(fact) ? { value: view.program.strands[n]![OF_STRAND[fact]] } : "automatic";
  }
  return undefined;
}
