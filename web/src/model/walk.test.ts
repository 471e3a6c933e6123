import { expect, test } from "vitest";
import type { FindingView } from "./findings";
import { chordOn, halts, heardLines, markNumber, standsOut, stations } from "./walk";

const keys = [60, 61, 62].flatMap((key) => [32, 112].map((strike) => ({ key, strike, level_dbfs: -20, cents: 3, brightness_key: null })));

test("a walk goes up or down at one strike or at each, or along a phrase at the nearest", () => {
  const walk = (...of: Parameters<typeof stations>) => stations(...of).map(({ key, strike }) => `${key}/${strike}`);
  expect(walk(keys, "up", 32, [])).toEqual(["60/32", "61/32", "62/32"]);
  expect(walk(keys, "down", undefined, [])).toEqual(["62/32", "62/112", "61/32", "61/112", "60/32", "60/112"]);
  const phrase = [
    { key: 62, strike: 100 },
    { key: 90, strike: 10 },
    { key: 60, strike: 10 },
  ];
  expect(walk(keys, "phrase", 32, phrase)).toEqual(["62/112", "60/32"]);
});

test("it stops at what is left on that key and strike alone", () => {
  const finding = (more: Partial<FindingView>) => ({ keys: [61, 61], strikes: [112, 112], accepted: null, ...more }) as FindingView;
  const at = { key: 61, strike: 112, place: 3 };
  expect(standsOut([finding({})], at)).toHaveLength(1);
  expect(standsOut([finding({ strikes: undefined })], at)).toHaveLength(1);
  const others: Partial<FindingView>[] = [{ strikes: [32, 32] }, { keys: [60, 72] }, { accepted: "so it is" }, { keys: undefined }];
  for (const other of others) expect(standsOut([finding(other)], at)).toHaveLength(0);
  // Of the keys that one recording plays it stops at the first.
  const several = [finding({ keys: [60, 62] })];
  expect(standsOut(several, at)).toHaveLength(1);
  expect([halts(several, at, undefined), halts(several, at, { ...at, key: 60 }), halts(several, at, { ...at, key: 59 })]).toEqual([
    true,
    false,
    true,
  ]);
});

test("what is heard stands beside what its neighbours tell", () => {
  const expected = keys.map(() => ({ level_dbfs: -23.5, cents: null, brightness_key: null }));
  const [level, pitch, brightness] = heardLines({ keys, expected }, { key: 60, strike: 32, place: 0 });
  expect(level).toEqual({ what: "level, dBFS", is: "−20.0", expected: "−23.5", off: "3.5" });
  expect([pitch!.expected, pitch!.off, brightness!.is]).toEqual(["–", "", "–"]);
  expect(heardLines({ keys, expected }, { key: 1, strike: 1, place: 99 })).toEqual([]);
});

test("a chord has what sounds of a third and a fifth", () => {
  expect(chordOn(60, [...keys, { ...keys[0]!, key: 67 }])).toEqual([60, 67]);
  expect(markNumber({ key: 60, strike: 112 })).toBe(60 + 112 * 256);
});
