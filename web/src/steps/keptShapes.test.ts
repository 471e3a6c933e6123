import { expect, it } from "vitest";
import { keptOf, wishesOf } from "./keptShapes";

const loudness = {
  delay_ms: 0,
  attack_ms: 5,
  hold_ms: 0,
  decay_ms: 900,
  sustain_db: -6,
  release_ms: 300,
  velocity_to_level: 0.5,
  bends: [0, 0.5, 0],
};
const filter = { passes: "low" as const, poles: 2, cutoff_hz: 900, key_follow: 0.5, resonance_db: 3, makes_up: true };
const movement = { id: 7, wave: "sine" as const, rate: { hz: 2 }, phase: 0, delay_ms: 0, fade_in_ms: 0, per_voice: true, once: false };
const route = { id: 9, from: { movement: 7 }, times: null, curve: 4, to: "cutoff" as const, amount: 600 };
const program = { curves: [{ id: 4, points: [{ at: 0, value: 1 }] }] };
const shape = { id: 1, loudness, filter, courses: [], movements: [movement], routes: [route] };

it("a kept shape says everything, and what it does not have is gone", () => {
  const kept = keptOf("Sway", program as never, shape);
  const own = { ...shape, courses: [{ id: 3 }], routes: [{ ...route, id: 11 }] };
  const wishes = wishesOf(kept, { target: { strand: 5 }, own: 5, shape: own as never });
  const of = (fact: string) => wishes.filter((wish) => wish.fact === fact);
  expect(of("shape_decay_ms")).toEqual([{ strand: 5, fact: "shape_decay_ms", value: 900 }]);
  expect(of("shape_decay_bend")[0]!.value).toBe(0.5);
  expect(of("filter_form")[0]!.value).toEqual({ passes: "low", poles: 2 });
  expect(of("filter_makes_up")[0]!.value).toBe(true);
  expect(of("course").map(({ part, value }) => [part, value])).toEqual([[["course", 5, 3], null]]);
  expect(of("route").map(({ part }) => part![2])).toEqual([11, 9]);
  expect(of("route")[1]!.value).toMatchObject({ amount: 600, curve: [{ at: 0, value: 1 }] });
});

it("one without a filter takes a filter away", () => {
  const kept = keptOf("Plain", program as never, { ...shape, filter: null, movements: [], routes: [] });
  const wishes = wishesOf(kept, { target: { region: [5, 9] }, own: 88, shape });
  expect(wishes.find(({ fact }) => fact === "filter_form")).toEqual({ region: [5, 9], fact: "filter_form", value: null });
  expect(wishes.find(({ fact }) => fact === "route")!.part).toEqual(["route", 88, 9]);
  expect(wishes.some(({ fact }) => fact === "filter_cutoff_hz")).toBe(false);
});
