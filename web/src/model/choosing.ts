// Many cells at once, by what they have in common with the one on the bench.
import type { BoardCell } from "./cells";

/** A way of choosing cells. */
export interface Way {
  name: string;
  pick: (cells: BoardCell[], focused: BoardCell | undefined) => BoardCell[];
}

/** As it is heard: with what its level was set by. */
function loudness({ take }: BoardCell): number | undefined {
  const lufs = take?.levels?.loudness_lufs;
  return lufs == null ? undefined : lufs + (take?.treatment?.gain_db ?? 0);
}

/** As long as it is heard, in seconds. */
function length({ take }: BoardCell): number | undefined {
  const treatment = take?.treatment;
  return take && treatment ? (treatment.end_frame - treatment.start_frame) / take.rate_hz : undefined;
}

function everyRung(n: number, cells: BoardCell[], focused: BoardCell | undefined): BoardCell[] {
  const rungs = [...new Set(cells.map((cell) => cell.cell.key))].sort((a, b) => a - b);
  const first = Math.max(0, rungs.indexOf(focused?.cell.key ?? -1)) % n;
  return cells.filter((cell) => rungs.indexOf(cell.cell.key) % n === first);
}

const atLeast = (of: (cell: BoardCell) => number | undefined) => (cells: BoardCell[], focused: BoardCell | undefined) => {
  const least = focused && of(focused);
  return least === undefined ? [] : cells.filter((cell) => (of(cell) ?? -Infinity) >= least);
};

export const WAYS: Way[] = [
  { name: "all cells", pick: (cells) => cells },
  { name: "every second rung", pick: (cells, focused) => everyRung(2, cells, focused) },
  { name: "every third rung", pick: (cells, focused) => everyRung(3, cells, focused) },
  { name: "every fourth rung", pick: (cells, focused) => everyRung(4, cells, focused) },
  { name: "this layer", pick: (cells, focused) => cells.filter((cell) => cell.layer === (focused?.layer ?? 0)) },
  {
    name: "this round robin",
    pick: (cells, focused) => cells.filter((cell) => cell.cell.round_robin === (focused?.cell.round_robin ?? 0)),
  },
  { name: "as loud as this, or louder", pick: atLeast(loudness) },
  { name: "as long as this, or longer", pick: atLeast(length) },
  { name: "without a loop", pick: (cells) => cells.filter(({ take }) => take?.treatment && !take.treatment.loop) },
];
