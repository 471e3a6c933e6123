import { expect, test } from "vitest";
import {
  doublings,
  milliseconds,
  cents,
  count,
  decibels,
  duration,
  frames,
  grouped,
  hertz,
  key,
  megabytes,
  ratio,
  seconds,
  semitones,
  share,
  signed,
} from "./units";

test("what a field shows is understood when it is typed again", () => {
  const units = { cents, decibels, hertz, key, ratio, seconds, semitones, count, share, frames: frames(48_000) };
  for (const [name, unit] of Object.entries(units))
    for (const value of [0, 1, 60, 12, name === "cents" ? -12.25 : 7]) {
      if (name === "share" && value > 1) continue;
      expect(unit.parse(unit.show(value)), `${name} ${unit.show(value)}`).toBeCloseTo(value, 6);
    }
});

test("a time is frames, by whatever unit it is said", () => {
  const unit = frames(44_100);
  expect(unit.parse("100 ms")).toBe(4_410);
  expect(unit.parse("1.5 s")).toBe(66_150);
  expect(unit.parse("1,5s")).toBe(66_150);
  expect(unit.parse("12 345")).toBe(12_345);
  expect(unit.parse("two")).toBeUndefined();
});

test("every frame has a number of milliseconds of its own", () => {
  const unit = milliseconds(192_000);
  for (const frame of [0, 1, 2, 999, 192_000 * 600 + 1]) expect(unit.parse(unit.show(frame))).toBe(frame);
  expect(unit.show(192_000)).toBe("1000 ms");
  expect([unit.parse("2.5"), unit.parse("1 s"), unit.parse("7 frames")]).toEqual([480, 192_000, 7]);
});

test("a number in another unit is not taken for one in this", () => {
  expect(decibels.parse("3 ms")).toBeUndefined();
  expect(cents.parse("3 dB")).toBeUndefined();
  expect(hertz.parse("")).toBeUndefined();
});

test("minus signs are true ones, and none stands before a zero", () => {
  expect(signed(-0.04, 1)).toBe("0.0");
  expect(signed(-1.25, 2)).toBe("−1.25");
  expect(cents.parse("−3 ct")).toBe(-3);
});

test("large numbers are read at a glance", () => {
  expect(grouped(1_234_567)).toBe("1 234 567");
  expect(duration(59.4)).toBe("59 s");
  expect(duration(61)).toBe("1 min 01 s");
  expect(megabytes(1_500_000)).toBe("1.5 MB");
  expect(megabytes(2_340_000_000)).toBe("2.34 GB");
});

test("doublings are told as a factor", () => {
  expect(doublings.show(1)).toBe("× 2");
  expect(doublings.show(-3)).toBe("× 0.125");
  expect([doublings.parse("× 4"), doublings.parse("0,5"), doublings.parse("+1 oct"), doublings.parse("x8")]).toEqual([2, -1, 1, 3]);
  expect([doublings.parse("-2"), doublings.parse("0"), doublings.parse("fast")]).toEqual([undefined, undefined, undefined]);
});
