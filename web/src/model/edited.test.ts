import { expect, test } from "vitest";
import type { InstrumentView } from "../api/client";
import { madeFrom, withEdit } from "./edited";

const span = (low: number, high: number) => ({ low, high, fade_in: { from: low, to: high }, fade_out: null, law: "power" });

const view = {
  plan: { kind: "struck" },
  map: { fill: "down", below_keys: 5 },
  takes: [
    { id: 7, correction: { gain_db: -3 }, treatment: { gain_db: -3, start_frame: 10 } },
    { id: 8, correction: {}, treatment: null },
  ],
  program: {
    samples: [{ source: "7~cleaned" }],
    regions: [{ key: { strand: 4 }, sample: 0, gain_db: -3, when: { keys: span(50, 60), strikes: span(1, 127) } }],
  },
  regions: [{ number: 9, by_hand: [] }],
} as unknown as InstrumentView;

test("what is wished for is seen before it is kept, and nothing else", () => {
  const seen = withEdit(view, { wishes: [{ take: 7, fact: "start_frame", value: 99 }] });
  expect(seen.takes[0]).toMatchObject({ correction: { gain_db: -3, start_frame: 99 }, treatment: { gain_db: -3, start_frame: 99 } });
  expect(seen.takes[1]).toBe(view.takes[1]);
  expect(seen.program).toBe(view.program);
  expect(view.takes[0]!.treatment!.start_frame).toBe(10);
});

test("a value that goes back to automatic stays as it is until the server says what that is", () => {
  const seen = withEdit(view, { wishes: [{ take: 7, fact: "gain_db", value: undefined }] });
  expect(seen.takes[0]!.correction.gain_db).toBeUndefined();
  expect(seen.takes[0]!.treatment!.gain_db).toBe(-3);
});

test("a region is shaped for itself, over what its strand has", () => {
  const loudness = { attack_ms: 2, release_ms: 500 };
  const strand = { id: 4, shape: 4 };
  const shape = { id: 4, loudness, filter: null, courses: [], movements: [], routes: [] };
  const shaped = {
    ...view,
    strands: [{ by_hand: [] }],
    regions: [{ number: 9, by_hand: [], own_shape: 77 }],
    program: { ...view.program, strands: [strand], shapes: [shape], curves: [] },
  } as unknown as InstrumentView;
  const route = { from: "strike", to: "level", amount: 3, curve: [], times: null };
  const seen = withEdit(shaped, {
    wishes: [
      { region: [4, 9], fact: "shape_attack_ms", value: 40 },
      { part: ["route", 77, 5], fact: "route", value: route },
    ],
  });
  expect(seen.program.shapes[0]).toEqual(shape);
  expect(seen.program.shapes[1]).toMatchObject({ id: 77, loudness: { attack_ms: 40, release_ms: 500 }, routes: [{ id: 5, amount: 3 }] });
  expect(seen.program.regions[0]!.shape).toBe(77);
  expect(seen.program.strands[0]).toEqual(strand);
  expect(seen.regions[0]!.by_hand).toEqual(["shape_attack_ms"]);
});

test("edits lie over each other in their order", () => {
  const [one, two] = [5, 6].map((value) => ({ wishes: [{ take: 8, fact: "pan" as const, value }] }));
  expect(withEdit(withEdit(view, one!), two!).takes[1]!.correction.pan).toBe(6);
});

test("a region's limit is set by hand, and its fade there is gone", () => {
  const wishes = [{ region: [4, 9] as [number, number], fact: "region_low_key" as const, value: 55 }];
  const seen = withEdit(view, { wishes });
  expect(seen.program.regions[0]!.when.keys).toMatchObject({ low: 55, high: 60, fade_in: null });
  expect(seen.regions[0]!.by_hand).toEqual(["region_low_key"]);
  expect(madeFrom(view, wishes[0]!)).toBe("automatic");
  expect(madeFrom(seen, wishes[0]!)).toEqual({ value: 55 });
});

test("a region's level stands beside that of its take", () => {
  const wishes = [{ region: [4, 9] as [number, number], fact: "region_gain_db" as const, value: 2 }];
  expect(withEdit(view, { wishes }).program.regions[0]!.gain_db).toBe(-1);
});

test("the map and the plan are seen at once too", () => {
  const seen = withEdit(view, { wishes: [{ fact: "fill", value: "up" }], plan: { kind: "pad" } as never });
  expect([seen.map.fill, seen.map.below_keys, seen.plan.kind]).toEqual(["up", 5, "pad"]);
});

test("a wish says what it was made from where the page knows it", () => {
  expect(madeFrom(view, { take: 7, fact: "gain_db", value: 1 })).toEqual({ value: -3 });
  expect(madeFrom(view, { take: 8, fact: "gain_db", value: 1 })).toBe("automatic");
  expect(madeFrom(view, { take: 99, fact: "gain_db", value: 1 })).toBeUndefined();
  expect(madeFrom(view, { fact: "name", value: "x" })).toBeUndefined();
});
