import { expect, test } from "vitest";
import { borders, type Extent, moved, neighbours, type Placed, snapped, withSide } from "./regions";

const extent = (lowKey: number, highKey: number, lowStrike = 1, highStrike = 127): Extent => ({ lowKey, highKey, lowStrike, highStrike });

const placed = (id: string, of: Extent, strand = 1) => ({ id, extent: of, region: { key: { strand } } }) as unknown as Placed;

test("a side stops at its opposite and at the end of its axis", () => {
  expect(withSide(extent(40, 50), "highKey", 30)).toEqual(extent(40, 40));
  expect(withSide(extent(40, 50), "lowKey", -9)).toEqual(extent(0, 50));
  expect(withSide(extent(40, 50, 20, 60), "lowStrike", 0).lowStrike).toBe(1);
  expect(withSide(extent(40, 50), "highKey", 52.4).highKey).toBe(52);
});

test("what is moved keeps its size", () => {
  expect(moved(extent(40, 50, 1, 63), 3, 70)).toEqual(extent(43, 53, 65, 127));
  expect(moved(extent(40, 50), -60, -5)).toEqual(extent(0, 10));
});

test("a neighbour is who shares the border, on the same strand and strikes", () => {
  const held = placed("held", extent(40, 50, 1, 63));
  const all = [
    held,
    placed("above", extent(51, 60, 1, 63)),
    placed("above, loud, crossing over", extent(51, 60, 50, 127)),
    placed("another strand", extent(51, 60, 1, 63), 2),
    placed("louder", extent(40, 50, 64, 127)),
  ];
  const names = (side: Parameters<typeof neighbours>[2]) => neighbours(all, [held], side).map(({ of, side }) => [of.id, side]);
  expect(names("highKey")).toEqual([["above", "lowKey"]]);
  expect(names("highStrike")).toEqual([["louder", "lowStrike"]]);
  expect(names("lowKey")).toEqual([]);
});

test("a border snaps to others that are near, and to none that is far", () => {
  const all = [placed("a", extent(40, 50, 1, 63))];
  expect(snapped(borders(all, "lowStrike"), 66, 3)).toBe(64);
  expect(snapped(borders(all, "highStrike"), 61, 3)).toBe(63);
  expect(snapped(borders(all, "lowStrike"), 80, 3)).toBe(80);
});
