import { expect, test } from "vitest";
import type { InstrumentView, Plan } from "../api/client";
import { boardCells, cellId, freshName, layerColumns, plannedCells } from "./cells";

const layer = (id: number, round_robins?: number) => ({ id, name: `layer ${id}`, strike_velocity: 40 + id, round_robins });

function plan(): Plan {
  const pass = { id: 7, name: "Keys", rungs: [60, 64], layers: [layer(5), layer(2, 3)], round_robins: 1 };
  return { passes: [pass] } as unknown as Plan;
}

const take = (id: number, key: number, of: number, chosen: boolean) => ({ id, cell: { pass: 7, key, layer: of, round_robin: 0 }, chosen });

const view = (takes: unknown[]): InstrumentView => ({ plan: plan(), takes }) as unknown as InstrumentView;

test("layers stand from soft to loud, their turns side by side", () => {
  expect(layerColumns(plan().passes[0])).toEqual([0, 1, 4]);
  expect(plannedCells(plan()).map((cell) => cell.column)).toEqual([0, 1, 2, 3, 0, 1, 2, 3]);
});

test("a cell shows its chosen take, and tells where only others lie", () => {
  const cells = boardCells(view([take(1, 60, 5, false), take(2, 64, 5, false), take(3, 64, 5, true)]), 0);
  const of = (key: number) => cells.find((cell) => cell.cell.key === key && cell.cell.layer === 5);
  expect([of(60)?.take, of(60)?.refused]).toEqual([undefined, true]);
  expect(of(64)?.take?.id).toBe(3);
});

test("a take of a rung that is no longer planned keeps its cell", () => {
  const cells = boardCells(view([take(9, 62, 2, true)]), 0);
  const own = cells.filter((cell) => cell.cell.key === 62);
  expect(own.map((cell) => cell.take?.id)).toEqual([9]);
  expect(cells).toHaveLength(9);
});

test("cells that differ have names that differ", () => {
  const names = plannedCells(plan()).map((cell) => cellId(cell.cell));
  expect(new Set(names).size).toBe(names.length);
});

test("a fresh name is a whole number that the server can hold", () => {
  const names = Array.from({ length: 1000 }, freshName);
  expect(names.every((name) => Number.isSafeInteger(name) && name >= 0 && name < 2 ** 52)).toBe(true);
  expect(new Set(names).size).toBe(names.length);
});
