// Cells and the takes on them.
import type { Cell, InstrumentView, Plan, Schemas, TakeView } from "../api/client";

export function cellId(cell: Cell): string {
  return `${cell.pass}/${cell.key}/${cell.layer}/${cell.round_robin}`;
}

export interface BoardCell {
  id: string;
  cell: Cell;
  /** Column on the board, soft to loud, round robins side by side. */
  column: number;
  take: TakeView | undefined;
  /** It has takes that are left out. */
  refused: boolean;
}

/** Every planned cell of a pass, and those that have a take though no longer planned, with its chosen take. */
export function boardCells(view: InstrumentView, pass: number): BoardCell[] {
  const chosen = new Map<string, TakeView>();
  const refused = new Set<string>();
  for (const take of view.takes) {
    if (take.chosen) chosen.set(cellId(take.cell), take);
    else refused.add(cellId(take.cell));
  }
  const planned = plannedCells(view.plan, pass);
  const known = new Set(planned.map((cell) => cell.id));
  const columns = planned.reduce((most, cell) => Math.max(most, cell.column + 1), 1);
  const left = view.takes.filter((take) => take.chosen && take.cell.pass === pass && !known.has(cellId(take.cell)));
  const unplanned = left.map((take) => ({
    id: cellId(take.cell),
    cell: take.cell,
    column: Math.min(columns - 1, columnOf(view.plan, take.cell)),
    take: undefined,
    refused: false,
  }));
  return [...planned, ...unplanned].map((cell) => ({ ...cell, take: chosen.get(cell.id), refused: refused.has(cell.id) }));
}

type Pass = Plan["passes"][number];

export function roundRobinsOf(pass: Pass | undefined, layer: number): number {
  return pass?.layers[layer]?.round_robins ?? pass?.round_robins ?? 1;
}

/** The first column of each layer, and after the last how many there are. */
export function layerColumns(pass: Pass | undefined): number[] {
  return (pass?.layers ?? []).reduce((columns, _, layer) => [...columns, columns.at(-1)! + roundRobinsOf(pass, layer)], [0]);
}

function columnOf(plan: Plan, cell: Cell): number {
  return (layerColumns(plan.passes[cell.pass])[cell.layer] ?? 0) + cell.round_robin;
}

export function plannedCells(plan: Plan, index = 0): BoardCell[] {
  const pass = plan.passes[index];
  if (!pass) return [];
  return pass.rungs.flatMap((key) =>
    pass.layers.flatMap((_, layer) =>
      Array.from({ length: roundRobinsOf(pass, layer) }, (_unused, round_robin) => {
        const cell: Cell = { pass: index, key, layer, round_robin };
        return { id: cellId(cell), cell, column: columnOf(plan, cell), take: undefined, refused: false };
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

const SOFT = [0x9c, 0xc3, 0xb9];
const MIDDLE = [0x4f, 0x8f, 0x86];
const LOUD = [0x17, 0x50, 0x4c];

/** Soft to loud: darker is louder. */
export function layerColour(layer: number, layers: number): string {
  const at = layers <= 1 ? 1 : layer / (layers - 1);
  const [from, to, share] = at < 0.5 ? [SOFT, MIDDLE, at * 2] : [MIDDLE, LOUD, at * 2 - 1];
  return `rgb(${from.map((c, i) => Math.round(c + (to[i]! - c) * share)).join(" ")})`;
}
