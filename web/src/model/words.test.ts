import { expect, test } from "vitest";
import type { InstrumentView } from "../api/client";
import { curveAt, type Part } from "./panel";
import { gate, gateOf, wordRoutes, wordsWishes } from "./words";

test("a gate is open at its word alone, and is known again", () => {
  for (const words of [2, 3, 7, 16])
    for (let word = 0; word < words; word++) {
      const points = gate(word, words);
      for (let n = 0; n < words; n++) expect(curveAt(points, n / (words - 1))).toBeCloseTo(n === word ? 1 : 0, 9);
      expect(gateOf(points, words)).toBe(word);
    }
  expect(
    gateOf(
      [
        { at: 0, value: -1 },
        { at: 1, value: 1 },
      ],
      3,
    ),
  ).toBeUndefined();
  expect(gateOf([], 3)).toBeUndefined();
});

const part = { id: 7, kind: "choice", name: "Vibrato by", shown_as: { words: ["nothing", "wheel", "pressure"] } } as unknown as Part;

function programWith(word: number, words: number): InstrumentView["program"] {
  const route = { id: 5, from: { control: 7 }, times: { controller: 1 }, curve: 9, to: "pitch", amount: 20 };
  return {
    strands: [{ id: 3, name: "Front", shape: 3 }],
    shapes: [{ id: 3, routes: [route], movements: [], courses: [], filter: null }],
    curves: [{ id: 9, points: gate(word, words) }],
    controls: [{ id: 7, name: "Vibrato by" }],
    buses: [],
    routes: [],
  } as unknown as InstrumentView["program"];
}

test("a route stays with its word where words come, go and are called otherwise", () => {
  const program = programWith(1, 3);
  expect(wordRoutes(program, part).map(({ word, of }) => [word, of])).toEqual([[1, "Front"]]);
  const after = (words: string[]) => wordsWishes(program, part, words).map(({ value }) => value && (value as { curve: unknown }).curve);
  expect(after(["nothing", "breath", "wheel", "pressure"])).toEqual([gate(2, 4)]);
  expect(after(["nothing", "modulation", "pressure"])).toEqual([gate(1, 3)]);
  expect(after(["nothing", "pressure"])).toEqual([null]);
});
