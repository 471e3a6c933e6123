import { expect, it } from "vitest";
import type { BoardCell } from "./cells";
import { WAYS } from "./choosing";

const cell = (key: number, layer: number, round_robin: number, lufs: number, seconds: number, looped: boolean) =>
  ({
    cell: { key, round_robin },
    layer,
    take: {
      rate_hz: 48_000,
      levels: { loudness_lufs: lufs },
      treatment: { gain_db: 2, start_frame: 0, end_frame: seconds * 48_000, loop: looped ? {} : null },
    },
  }) as unknown as BoardCell;

const cells = [cell(48, 0, 0, -20, 2, true), cell(50, 1, 1, -18, 1, false), cell(52, 0, 1, -22, 3, true), cell(54, 0, 0, -20, 2, false)];
const by = (name: string, focused = cells[0]) =>
  WAYS.find((way) => way.name === name)!
    .pick(cells, focused)
    .map((of) => cells.indexOf(of));

it("cells are chosen by what they have in common with the one on the bench", () => {
  expect(by("every second rung")).toEqual([0, 2]);
  expect(by("every second rung", cells[1])).toEqual([1, 3]);
  expect(by("every third rung")).toEqual([0, 3]);
  expect(by("this layer")).toEqual([0, 2, 3]);
  expect(by("this round robin", cells[1])).toEqual([1, 2]);
  expect(by("as loud as this, or louder")).toEqual([0, 1, 3]);
  expect(by("as long as this, or longer")).toEqual([0, 2, 3]);
  expect(by("without a loop")).toEqual([1, 3]);
});
