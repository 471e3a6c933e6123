// Regions: on which keys and strikes they sound, and what they are called.
import type { InstrumentView, Schemas, TakeView } from "../api/client";
import { cellId } from "./cells";

export type Region = Schemas["Region"];
export type Span = Schemas["Span"];

/** Where a region lies on the map. */
export interface Extent {
  lowKey: number;
  highKey: number;
  lowStrike: number;
  highStrike: number;
}

/** A region of the program, with what names it and what it plays. */
export interface Placed {
  region: Region;
  /** As the page names it. */
  id: string;
  /** As a fact names it. */
  name: [strand: number, number: number];
  byHand: Schemas["Fact"][];
  /** The name that a shape of its own has, whether it has one or not. */
  ownShape: number;
  /** The controller that it is heard by. */
  controller: Schemas["ByController"] | undefined;
  take: TakeView | undefined;
  extent: Extent;
}

/** Where something that was found lies. */
export function extentIn(found: Schemas["Coverage"]): Extent {
  return { lowKey: found.low_key, highKey: found.high_key, lowStrike: found.low_strike, highStrike: found.high_strike };
}

export function contains(span: Span, value: number): boolean {
  return span.low <= value && value <= span.high;
}

/** The take that a sample is made from, cleaned or not. */
export function takeId(source: string | undefined): number {
  return Number(source?.split("~")[0]);
}

/** Every region of an instrument, in the program's order. */
export function placedRegions(view: InstrumentView): Placed[] {
  const takes = new Map(view.takes.map((take) => [take.id, take]));
  return view.program.regions.map((region, n) => {
    const said = view.regions[n]!;
    const { keys, strikes } = region.when;
    return {
      region,
      id: `${region.key.strand}/${said.number}`,
      name: [region.key.strand, said.number],
      byHand: said.by_hand,
      ownShape: said.own_shape,
      controller: said.controller ?? undefined,
      take: takes.get(takeId(view.program.samples[region.sample]?.source)),
      extent: { lowKey: keys.low, highKey: keys.high, lowStrike: strikes.low, highStrike: strikes.high },
    };
  });
}

/** A region and those that take turns with it, itself first: what is done to one is done to all. */
export function inTurnWith(all: Placed[], of: Placed): Placed[] {
  const cell = of.take?.cell;
  const same = ({ take }: Placed) =>
    cell !== undefined && take?.cell.key === cell.key && take.cell.layer === cell.layer && take.cell.pass === cell.pass;
  const others = all.filter((one) => one !== of && one.region.key.strand === of.region.key.strand && same(one));
  return of.region.when.turn === "always" ? [of] : [of, ...others.filter((one) => one.region.when.turn !== "always")];
}

/** How many take turns with a region. */
export function turnsOf({ region }: Placed): number {
  const { turn } = region.when;
  if (turn === "always") return 1;
  if ("in_order" in turn) return turn.in_order.of;
  if ("shuffled" in turn) return turn.shuffled.of;
  return Math.round(1 / Math.max(0.01, turn.random.to - turn.random.from));
}

/** The regions that an edit is done to, the one on the bench first: those that were chosen on the map, else those of the chosen cells. */
export function chosenRegions(all: Placed[], ids: string[], cells: ReadonlySet<string>, focus: string | undefined): Placed[] {
  if (ids.length > 0) {
    const byId = new Map(all.map((of) => [of.id, of]));
    return ids.flatMap((id) => byId.get(id) ?? []);
  }
  const of = all.filter(({ take }) => take !== undefined && cells.has(cellId(take.cell)));
  const first = of.filter(({ take }) => cellId(take!.cell) === focus);
  return [...first, ...of.filter((one) => !first.includes(one))];
}

/** So many, as a label calls them. */
export const someRegions = (count: number) => (count === 1 ? "the region" : `${count} regions`);

/** A side of a region. */
export type Side = keyof Extent;

const OPPOSITE: Record<Side, Side> = { lowKey: "highKey", highKey: "lowKey", lowStrike: "highStrike", highStrike: "lowStrike" };

const limits = (side: Side): [number, number] => (side.endsWith("Key") ? [0, 127] : [1, 127]);

/** A side at another place: it passes neither the end of its axis nor its opposite. */
export function withSide(extent: Extent, side: Side, to: number): Extent {
  const [first, last] = limits(side);
  const opposite = extent[OPPOSITE[side]];
  const within = Math.min(last, Math.max(first, Math.round(to)));
  return { ...extent, [side]: side.startsWith("low") ? Math.min(within, opposite) : Math.max(within, opposite) };
}

/** The whole at another place, as far as there is room. */
export function moved(extent: Extent, keys: number, strikes: number): Extent {
  const by = (low: number, high: number, wanted: number, first: number) => Math.min(127 - high, Math.max(first - low, Math.round(wanted)));
  const k = by(extent.lowKey, extent.highKey, keys, 0);
  const s = by(extent.lowStrike, extent.highStrike, strikes, 1);
  return {
    lowKey: extent.lowKey + k,
    highKey: extent.highKey + k,
    lowStrike: extent.lowStrike + s,
    highStrike: extent.highStrike + s,
  };
}

/** Of some regions those whose border with one of `held` is the side that is moved, with the side of theirs that goes along. */
export function neighbours(all: Placed[], held: Placed[], side: Side): { of: Placed; side: Side }[] {
  const other = OPPOSITE[side];
  const step = side.startsWith("low") ? -1 : 1;
  const across: [Side, Side] = side.endsWith("Key") ? ["lowStrike", "highStrike"] : ["lowKey", "highKey"];
  const size = (of: Extent) => of[across[1]] - of[across[0]] + 1;
  // Those of another layer meet it in a crossfade only: more than half of one has to lie beside the other.
  const meet = (a: Extent, b: Extent) =>
    Math.min(a[across[1]], b[across[1]]) - Math.max(a[across[0]], b[across[0]]) + 1 > Math.min(size(a), size(b)) / 2;
  const among = new Set(held);
  const byBorder = new Map<number, Placed[]>();
  for (const one of held) byBorder.set(one.extent[side] + step, [...(byBorder.get(one.extent[side] + step) ?? []), one]);
  const meets = (of: Placed) => (one: Placed) => one.region.key.strand === of.region.key.strand && meet(one.extent, of.extent);
  return all.filter((of) => !among.has(of) && (byBorder.get(of.extent[other]) ?? []).some(meets(of))).map((of) => ({ of, side: other }));
}

/** Where borders of regions lie on the axis of a side, each once. */
export function borders(all: Placed[], side: Side): number[] {
  const step = side.startsWith("low") ? 1 : -1;
  return [...new Set(all.flatMap(({ extent }) => [extent[side], extent[OPPOSITE[side]] + step]))];
}

/** The nearest border within reach, else the place itself. */
export function snapped(all: number[], to: number, reach: number): number {
  const near = all.filter((border) => Math.abs(border - to) <= reach).sort((a, b) => Math.abs(a - to) - Math.abs(b - to));
  return near[0] ?? to;
}
