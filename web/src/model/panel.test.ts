import { expect, test } from "vitest";
import type { InstrumentView } from "../api/client";
import {
  aligned,
  bentForm,
  curveAt,
  doesWhat,
  drivables,
  drivingsOf,
  formOf,
  isShown,
  meets,
  type Panel,
  panelLaid,
  parsed,
  type Part,
  rangeOf,
  readingOf,
  roomFor,
  routeWith,
  within,
} from "./panel";

const route = (id: number, to: unknown, amount: number, curve: number | null = null) => ({
  id,
  from: { control: 7 },
  times: null,
  to,
  amount,
  curve,
});

const program = {
  strands: [
    { id: 1, name: "Front rank", shape: 1 },
    { id: 2, name: "Back rank", shape: 2 },
  ],
  shapes: [1, 2].map((id) => ({
    id,
    filter: id === 1 ? { cutoff_hz: 1000 } : null,
    loudness: { attack_ms: 10, release_ms: 200 },
    movements: [],
    courses: [],
    routes: id === 1 ? [route(5, { course_time: [0, "attack"] }, 3)] : [],
  })),
  curves: [{ id: 9, points: [0, 0.5, 1].map((at) => ({ at, value: 1 - at })) }],
  buses: [],
  controls: [],
  routes: [route(1, { strand_level: 1 }, -96), route(2, { strand_level: 2 }, -96, 9)],
} as unknown as InstrumentView["program"];

const part = (over: Partial<Part> = {}): Part => ({
  id: 7,
  kind: "slider",
  name: "Balance",
  page: 1,
  place: { x: 0, y: 0, wide: 10, high: 3 },
  shown_as: "share",
  at_first: 0.5,
  controller: null,
  shown_when: null,
  colour: null,
  text: "",
  picture: null,
  strand: null,
  group: null,
  ...over,
});

test("a control tells what it drives, from where to where", () => {
  const drives = drivingsOf(program, [], 7);
  expect(drives.map(({ of, driven }) => `${of} ${driven.name}`)).toEqual(["Front rank level", "Back rank level", "Front rank attack"]);
  expect(drives.map((one) => rangeOf(program, one))).toEqual([
    { from: 0, to: -96 },
    { from: -96, to: 0 },
    { from: 0, to: 3 },
  ]);
  expect(doesWhat(program, drives.slice(0, 2))).toBe("Front rank out, Back rank in");
  expect(doesWhat(program, drives.slice(2))).toBe("attack of Front rank");
});

test("what follows its controller is driven by it too, whatever the names of routes", () => {
  const follows = { ...route(3, { strand_level: 1 }, -96), from: { controller: 20 } };
  const labelled = {
    ...program,
    controls: [{ id: 8, name: "Swell", at_first: 0, controller: 20 }],
    routes: [route(2, { strand_level: 2 }, -96), follows, { ...route(1, { strand_level: 1 }, -96), from: { control: 8 } }],
  } as unknown as InstrumentView["program"];
  expect(drivingsOf(labelled, [], 8).map(({ of }) => of)).toEqual(["Front rank", "Front rank"]);
  const backwards = { ...program, routes: [...program.routes!].reverse() };
  expect(drivingsOf(backwards, [], 7).map(({ of }) => of)).toEqual(["Front rank", "Back rank", "Front rank"]);
});

test("a range is written as a route and read again, whatever lies between", () => {
  for (const range of [
    { from: 0, to: -96 },
    { from: -96, to: 0 },
    { from: -1200, to: 2400 },
    { from: 6, to: 6 },
  ])
    for (const form of [bentForm(0.5), bentForm(0.8), bentForm(0.1)]) {
      const { amount, curve } = routeWith(range, form, "cutoff");
      for (const at of [0, 0.25, 0.5, 1]) {
        const does = curveAt(curve ?? [], at) * amount;
        expect(does).toBeCloseTo(range.from + (range.to - range.from) * curveAt(form, at), 6);
      }
      expect((curve ?? []).every(({ value }) => Math.abs(value) <= 1)).toBe(true);
    }
  // What drives the level of a voice only lowers it: its amount is never over nothing.
  expect(routeWith({ from: -12, to: 0 }, bentForm(0.5), "level").amount).toBe(-12);
  expect(curveAt(bentForm(0.8), 0.5)).toBeCloseTo(0.8, 3);
});

test("a form keeps its bend when its range is set", () => {
  const one = drivingsOf(program, [], 7)[1]!;
  expect(formOf(program, one)).toEqual([0, 0.5, 1].map((at) => ({ at, value: at })));
});

test("values are read and typed as they are shown", () => {
  const drives = drivingsOf(program, [], 7);
  const [levels, attack] = [drives.slice(0, 1), drives.slice(2)];
  expect(readingOf(program, part(), 0.62, [])).toBe("62 %");
  expect(parsed(program, part(), "62 %", [])).toBeCloseTo(0.62);
  const driven = part({ shown_as: "driven" });
  expect(readingOf(program, driven, 0, levels)).toBe("0.0 dB");
  expect(readingOf(program, driven, 1, levels)).toBe("−∞ dB");
  expect(parsed(program, driven, "-24 dB", levels)).toBeCloseTo(0.25);
  expect(readingOf(program, driven, 1, attack)).toBe("80 ms");
  expect(parsed(program, driven, "40", attack)).toBeCloseTo(2 / 3, 2);
  const between = part({ shown_as: { between: { low: -5, high: 5, unit: "st" } } });
  expect(readingOf(program, between, 0.75, [])).toBe("2.5 st");
  expect(parsed(program, between, "2.5 st", [])).toBeCloseTo(0.75);
  expect(parsed(program, between, "loud", [])).toBeUndefined();
  const words = part({ kind: "choice", shown_as: { words: ["front", "back", "both"] } });
  expect(readingOf(program, words, 0.5, [])).toBe("back");
  expect(parsed(program, words, "Both", [])).toBe(1);
});

test("a filter that is not there is put there with what drives it", () => {
  const cutoffs = drivables(program, []).filter(({ driven }) => driven.name === "cutoff");
  expect(cutoffs.map(({ of, from, to, beside }) => [of, from, to, beside?.length ?? 0])).toEqual([
    ["Front rank", -2400, 2400, 0],
    ["Back rank", -6000, 0, 2],
  ]);
});

test("what is new lands under what one works on, or where there is room", () => {
  const near = { x: 1, y: 1, wide: 10, high: 3 };
  expect(roomFor([10, 3], [near], near)).toEqual({ x: 1, y: 5, wide: 10, high: 3 });
  const under = { x: 1, y: 5, wide: 10, high: 3 };
  expect(roomFor([10, 3], [near, under], near)).toEqual({ x: 12, y: 1, wide: 10, high: 3 });
  const free = roomFor([36, 4], [near, under]);
  expect([near, under].some((other) => meets(free, other))).toBe(false);
  expect(within({ x: 30, y: -2, wide: 50, high: 0 })).toEqual({ x: 0, y: 0, wide: 36, high: 1 });
});

test("several are put in line and spread", () => {
  const places = [0, 4, 20].map((x) => ({ x, y: x, wide: 4, high: 2 }));
  expect(aligned(places, "left").map(({ x }) => x)).toEqual([0, 0, 0]);
  expect(aligned(places, "right").map(({ x }) => x)).toEqual([20, 20, 20]);
  expect(aligned(places, "across").map(({ x }) => x)).toEqual([0, 10, 20]);
});

test("a part is shown while what it waits for stands there", () => {
  const waits = part({ shown_when: { control: 3, low: 0.4, high: 0.6 } });
  expect([0.3, 0.5, 0.7].map((value) => isShown(waits, () => value))).toEqual([false, true, false]);
  expect(isShown(waits, () => undefined)).toBe(true);
});

test("an edit of the panel is seen before it is kept", () => {
  const panel: Panel = { pages: [], parts: [part()], presets: [] };
  const laid = panelLaid(panel, [
    { page: 4, fact: "page_name", value: "Room" },
    { control: 7, fact: "part_name", value: "Ranks" },
    { control: 8, fact: "part_kind", value: "switch" },
    { control: 8, fact: "part_name", value: "Damper" },
    { preset: 2, fact: "preset_name", value: "Soft" },
  ]);
  expect(laid.pages).toEqual([{ id: 4, name: "Room", colour: null, picture: null }]);
  expect(laid.parts.map(({ name, kind }) => [name, kind])).toEqual([
    ["Ranks", "slider"],
    ["Damper", "switch"],
  ]);
  expect(laid.presets[0]!.name).toBe("Soft");
  expect(panelLaid(laid, [{ control: 7, fact: "part_kind", value: null }]).parts.map(({ id }) => id)).toEqual([8]);
});
