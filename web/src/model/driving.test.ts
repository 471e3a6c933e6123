import { expect, test } from "vitest";
import type { InstrumentView } from "../api/client";
import { controllersOf, filterWith, partsWith, routeSaid, same, sourceName, sourcesOf } from "./driving";

type Program = InstrumentView["program"];

const shape = {
  id: 1,
  loudness: {},
  courses: [],
  filter: null,
  movements: [{ id: 21, wave: "sine", rate: { hz: 5 } }],
  routes: [{ id: 4, from: { controller: 11 }, times: { controller: 1 }, to: "level", amount: 24, curve: 70 }],
} as unknown as Program["shapes"][number];
const program = {
  shapes: [shape],
  strands: [{ id: 1, shape: 1 }],
  curves: [{ id: 70, points: [{ at: 0, value: 1 }] }],
} as unknown as Program;

test("a route is said again with its curve and what is changed", () => {
  const said = routeSaid(program, shape.routes[0]!, { amount: 12 });
  expect(said).toEqual({ from: { controller: 11 }, times: { controller: 1 }, to: "level", amount: 12, curve: [{ at: 0, value: 1 }] });
});

test("a part that is wished is there at once, another stays, and one that is gone is gone", () => {
  const wished = {
    from: "strike",
    to: "cutoff",
    amount: 1200,
    curve: [
      { at: 0, value: 0 },
      { at: 1, value: 1 },
    ],
  };
  const { shape: more, curves } = partsWith(program, shape, ["route", 1, 9], wished);
  expect(more.routes.map(({ id }) => id)).toEqual([4, 9]);
  expect(curves.find(({ id }) => id === more.routes[1]!.curve)?.points).toEqual(wished.curve);
  const { shape: less } = partsWith(program, shape, ["movement", 1, 21], null);
  expect(less.movements).toEqual([]);
  expect(less.routes).toEqual(shape.routes);
});

test("what a filter is at first is left to the server", () => {
  expect(filterWith(shape, "filter_form", { passes: "high", poles: 1 }).filter).toBeNull();
  const low = { passes: "low", poles: 2, cutoff_hz: 900, key_follow: 0, resonance_db: 0, makes_up: false } as const;
  const filtered = { ...shape, filter: low };
  expect(filterWith(filtered, "filter_form", { passes: "high", poles: 1 }).filter).toEqual({ ...low, passes: "high", poles: 1 });
  expect(filterWith(filtered, "filter_cutoff_hz", 300).filter?.cutoff_hz).toBe(300);
});

test("sources are offered and called by what they are", () => {
  const sources = sourcesOf(shape, { controller: 99 });
  expect(sources.some((one) => same(one, { movement: 21 }))).toBe(true);
  expect(sources.at(-1)).toEqual({ controller: 99 });
  expect(sourceName({ movement: 21 }, shape)).toBe("slow movement 1");
  expect(sourceName({ controller: 1 }, shape)).toBe("mod wheel (1)");
  expect(controllersOf([shape])).toEqual([11, 1]);
});
