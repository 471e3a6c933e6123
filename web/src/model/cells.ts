// Cells and the takes on them.
import type { Cell, InstrumentView, Plan, Schemas, TakeView } from "../api/client";

export function cellId(cell: Cell): string {
  return `${cell.pass}/${cell.key}/${cell.layer}/${cell.round_robin}`;
}

export interface BoardCell {
  id: string;
  cell: Cell;
  /** Its layer's place, from soft. */
  layer: number;
  /** Column on the board, soft to loud, round robins side by side. */
  column: number;
  take: TakeView | undefined;
  /** It has takes that are left out. */
  refused: boolean;
}

type Pass = Plan["passes"][number];
type Layer = Pass["layers"][number];

export function sameCell(a: Cell, b: Cell): boolean {
  return cellId(a) === cellId(b);
}

/** The pass of a cell, where it is still planned. */
export function passOf(plan: Plan, cell: Cell): Pass | undefined {
  return plan.passes.find((pass) => pass.id === cell.pass);
}

/** The layer of a cell, where it is still planned. */
export function layerOf(plan: Plan, cell: Cell): Layer | undefined {
  return passOf(plan, cell)?.layers.find((layer) => layer.id === cell.layer);
}

/** The place of a cell's layer, from soft; of one that is no longer planned, the first. */
export function layerPlace(plan: Plan, cell: Cell): number {
  return Math.max(0, passOf(plan, cell)?.layers.findIndex((layer) => layer.id === cell.layer) ?? 0);
}

/** A name for good for what is new: by chance, out of so many that none is met twice. */
export function freshName(): number {
  const [high, low] = crypto.getRandomValues(new Uint32Array(2));
  return (high! % 2 ** 20) * 2 ** 32 + low!;
}

/** Every planned cell of a pass, and those that have a take though no longer planned, with its chosen take. */
export function boardCells(view: InstrumentView, index: number): BoardCell[] {
  const pass = view.plan.passes[index]?.id;
  const chosen = new Map<string, TakeView>();
  const refused = new Set<string>();
  for (const take of view.takes) {
    if (take.chosen) chosen.set(cellId(take.cell), take);
    else refused.add(cellId(take.cell));
  }
  const planned = plannedCells(view.plan, index);
  const known = new Set(planned.map((cell) => cell.id));
  const columns = planned.reduce((most, cell) => Math.max(most, cell.column + 1), 1);
  const left = view.takes.filter((take) => take.chosen && take.cell.pass === pass && !known.has(cellId(take.cell)));
  const unplanned = left.map((take) => ({
    id: cellId(take.cell),
    cell: take.cell,
    layer: layerPlace(view.plan, take.cell),
    column: Math.min(columns - 1, columnOf(view.plan, take.cell)),
    take: undefined,
    refused: false,
  }));
  return [...planned, ...unplanned].map((cell) => ({ ...cell, take: chosen.get(cell.id), refused: refused.has(cell.id) }));
}

export function roundRobinsOf(pass: Pass | undefined, layer: Layer | undefined): number {
  return layer?.round_robins ?? pass?.round_robins ?? 1;
}

/** " · round robin 2", where a cell's layer is recorded several times. */
export function turnOf(plan: Plan, cell: Cell): string {
  return roundRobinsOf(passOf(plan, cell), layerOf(plan, cell)) > 1 ? ` · round robin ${cell.round_robin + 1}` : "";
}

/** The first column of each layer, and after the last how many there are. */
export function layerColumns(pass: Pass | undefined): number[] {
  return (pass?.layers ?? []).reduce((columns, layer) => [...columns, columns.at(-1)! + roundRobinsOf(pass, layer)], [0]);
}

function columnOf(plan: Plan, cell: Cell): number {
  return layerColumns(passOf(plan, cell))[layerPlace(plan, cell)]! + cell.round_robin;
}

export function plannedCells(plan: Plan, index = 0): BoardCell[] {
  const pass = plan.passes[index];
  if (!pass) return [];
  const columns = layerColumns(pass);
  return pass.rungs.flatMap((key) =>
    pass.layers.flatMap((layer, place) =>
      Array.from({ length: roundRobinsOf(pass, layer) }, (_, round_robin) => {
        const cell: Cell = { pass: pass.id, key, layer: layer.id, round_robin };
        return { id: cellId(cell), cell, layer: place, column: columns[place]! + round_robin, take: undefined, refused: false };
      }),
    ),
  );
}

/** How long a rung is held, as the server has it. */
export function holdAt(pass: Pass, figures: Schemas["PassFigures"] | undefined, key: number): number {
  return figures?.holds_ms[pass.rungs.indexOf(key)] ?? pass.hold_ms;
}

/** How far a take's pitch lies from its planned key, in cents. */
export function centsFromPlan(take: TakeView): number | undefined {
  if (take.correction.no_pitch) return undefined;
  const pitch = take.facts?.pitch;
  return pitch ? (pitch.key - take.cell.key) * 100 + pitch.cents : undefined;
}

/**
 * By how much the seams of a take's loop stand out of its sound, in dB; undefined without a loop, where there is nothing to compare
 * with, and until it is judged.
 */
export function standsOut(take: TakeView): number | undefined {
  return take.seam?.audible_db ?? undefined;
}

/** A take that another is laid beside: its neighbours', that of another strength, and earlier ones of its own cell. */
export interface Other {
  value: string;
  name: string;
  take: TakeView;
}

export function othersOf(view: InstrumentView, take: TakeView): Other[] {
  const { cell } = take;
  const measured = view.takes.filter(({ facts }) => facts);
  const pass = measured.filter((one) => one.chosen && one.cell.pass === cell.pass);
  const nearest = (test: (one: Cell) => boolean, by: (one: Cell) => number) =>
    pass.filter((one) => test(one.cell)).toSorted((a, b) => by(a.cell) - by(b.cell))[0];
  const same = (one: Cell) => one.layer === cell.layer && one.round_robin === cell.round_robin;
  const apart = (one: Cell) => Math.abs(layerPlace(view.plan, one) - layerPlace(view.plan, cell));
  const other = (value: string, name: string, take: TakeView | undefined): Other[] => (take ? [{ value, name, take }] : []);
  const above = nearest(
    (one) => same(one) && one.key > cell.key,
    ({ key }) => key,
  );
  const below = nearest(
    (one) => same(one) && one.key < cell.key,
    ({ key }) => -key,
  );
  const strength = nearest((one) => one.key === cell.key && one.layer !== cell.layer, apart);
  const earlier = measured.filter((one) => one.id !== take.id && sameCell(one.cell, cell)).toReversed();
  return [
    ...other("above", "the rung above", above),
    ...other("below", "the rung below", below),
    ...other("layer", "another strength", strength),
    ...earlier.flatMap((one, n) => other(`take ${one.id}`, `take ${earlier.length - n} of this cell`, one)),
  ];
}
