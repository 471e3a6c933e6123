// Cells and the takes on them.
import type { Cell, InstrumentView, Plan, TakeView } from "../api/client";

export function cellId(cell: Cell): string {
  return `${cell.pass}/${cell.key}/${cell.layer}/${cell.round_robin}`;
}

export interface BoardCell {
  id: string;
  cell: Cell;
  /** Column on the board, soft to loud, round robins side by side. */
  column: number;
  take: TakeView | undefined;
}

/** Every planned cell, and those that have a take though no longer planned, with its chosen take. */
export function boardCells(view: InstrumentView): BoardCell[] {
  const chosen = new Map<string, TakeView>();
  for (const take of view.takes) if (take.chosen) chosen.set(cellId(take.cell), take);
  return plannedCells(view.plan).map((cell) => ({ ...cell, take: chosen.get(cell.id) }));
}

export function plannedCells(plan: Plan): BoardCell[] {
  const pass = plan.passes[0];
  if (!pass) return [];
  return pass.rungs.flatMap((key) =>
    pass.layers.flatMap((_, layer) =>
      Array.from({ length: pass.round_robins }, (_unused, round_robin) => {
        const cell: Cell = { pass: 0, key, layer, round_robin };
        return { id: cellId(cell), cell, column: layer * pass.round_robins + round_robin, take: undefined };
      }),
    ),
  );
}

/** How far a take's pitch lies from its planned key, in cents. */
export function centsFromPlan(take: TakeView): number | undefined {
  const pitch = take.facts?.pitch;
  return pitch ? (pitch.key - take.cell.key) * 100 + pitch.cents : undefined;
}

/** The measured loop that holds, or the numbers of one set by hand. */
export function seamOf(take: TakeView): number | undefined {
  const held = take.treatment?.loop;
  if (!held) return undefined;
  return take.facts?.loops.find((l) => l.start_frame === held.start_frame && l.end_frame === held.end_frame)?.seam_db;
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
