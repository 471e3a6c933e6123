import { expect, it } from "vitest";
import { apart, levelled } from "./levels";

const heard = [
  { strand: 1, loudness_lufs: -20 },
  { strand: 2, loudness_lufs: -26 },
  { strand: 3, loudness_lufs: null },
];

it("strands meet in their middle, and what is silent stays", () => {
  expect(apart(heard)).toBe(6);
  expect([1, 2, 3, 9].map((strand) => levelled(heard, strand))).toEqual([-3, 3, 0, 0]);
});

it("one alone is not apart from anything", () => {
  expect(apart(heard.slice(0, 1))).toBe(0);
  expect(apart([])).toBe(0);
});
