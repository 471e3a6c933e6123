import { expect, test } from "vitest";
import type { InstrumentView } from "../api/client";
import {
  drivenOf,
  effectName,
  effectsLaid,
  type Effect,
  firstOf,
  freshBus,
  isShared,
  ofStrand,
  placeBefore,
  unitOf,
  WHOLE,
} from "./effects";

const chorus: Effect = { id: 5, kind: "chorus", on: true, level_db: 0, settings: [0.6, 2, 50] };
const program = {
  strands: [{ id: 3, sends: [] }],
  buses: [
    { id: 2, name: "Room", gain_db: 0, effects: [] },
    { id: ofStrand(3), name: "Front", gain_db: 0, effects: [chorus] },
  ],
  routes: [],
  curves: [],
} as unknown as InstrumentView["program"];

test("rows are told apart by their numbers as the engine does", () => {
  expect([WHOLE, 2, ofStrand(3)].map(isShared)).toEqual([false, true, false]);
  expect(freshBus(program)).toBe(4);
});

test("an edit is seen before it has arrived", () => {
  const of = [ofStrand(3), 5] as [number, number];
  const after = effectsLaid(program, [
    { effect: of, fact: "effect_on", value: false },
    { effect: of, fact: "effect_setting3", value: 80 },
    { send: [3, 2], fact: "send_db", value: -12 },
    { bus: 2, fact: "bus_name", value: "Hall" },
  ]);
  expect(after.buses[1]!.effects[0]).toMatchObject({ on: false, settings: [0.6, 2, 80] });
  expect(after.strands[0]!.sends).toEqual([{ bus: 2, gain_db: -12 }]);
  expect(after.buses[0]!.name).toBe("Hall");
  const gone = effectsLaid(after, [
    { effect: of, fact: "effect_kind", value: null },
    { send: [3, 2], fact: "send_db", value: null },
    { bus: 2, fact: "bus_name", value: null },
  ]);
  expect(gone.buses.map(({ effects }) => effects.length)).toEqual([0]);
  expect(gone.strands[0]!.sends).toEqual([]);
});

test("what is put before another lies half way", () => {
  expect(placeBefore([0, 1, 2], 1)).toBe(0.5);
  expect(placeBefore([0, 1, 2], 0)).toBe(-1);
  expect(placeBefore([0, 1, 2], 3)).toBe(3);
  expect(placeBefore([], 0)).toBe(0);
});

test("settings are read with their units, and driven in octaves where they are heard so", () => {
  const rate = { name: "Rate", unit: "hertz", low: 0.05, high: 8, first: 0.6, choices: [] } as const;
  expect(unitOf({ ...rate, choices: [] }).show(0.6)).toBe("0.6 Hz");
  expect(drivenOf(5, 0, { ...rate, choices: [] }).unit.show(1)).toBe("× 2");
  const mix = { name: "Mix", unit: "percent", low: 0, high: 100, first: 50, choices: [] } as const;
  expect(drivenOf(5, 2, { ...mix, choices: [] })).toMatchObject({ most: 100, first: 25 });
});

test("what is new in a shared row is not heard twice", () => {
  const mix = { name: "Mix", unit: "percent", low: 0, high: 100, first: 25, choices: [] as string[] } as const;
  expect(firstOf(2, [{ ...mix }])).toEqual([{ fact: "effect_setting1", value: 100 }]);
  expect(firstOf(WHOLE, [{ ...mix }])).toEqual([]);
});

test("two of a kind have numbers", () => {
  const other = { ...chorus, id: 6 };
  expect(effectName([chorus, other], other, () => "Chorus")).toBe("Chorus 2");
  expect(effectName([chorus], chorus, () => "Chorus")).toBe("Chorus");
});
