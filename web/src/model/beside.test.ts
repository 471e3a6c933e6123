import { expect, test } from "vitest";
import { equallyLoud, meanBands, scoreOf, stretchOf, thirdHz, type Beside, type PassageBeside } from "./beside";

test("notes end where they are let go, struck again, or the phrase does", () => {
  const at = (at_ms: number, ...bytes: number[]) => ({ at_ms, bytes });
  const notes = scoreOf(
    [
      at(0, 0x90, 60, 80),
      at(100, 0xb0, 64, 127),
      at(200, 0x90, 60, 90),
      at(300, 0x80, 60, 0),
      at(400, 0x91, 62, 70),
      at(450, 0x91, 62, 0),
      at(500, 0x90, 64, 50),
    ],
    900,
  );
  expect(notes.map(({ at_ms, until_ms, key }) => [at_ms, until_ms, key])).toEqual([
    [0, 200, 60],
    [200, 300, 60],
    [400, 450, 62],
    [500, 900, 64],
  ]);
});

test("a passage lies later in the recording than in the score", () => {
  const passage = (at_ms: number, end_ms: number) => ({ passage: { at_ms, end_ms } });
  const beside = { passages: [passage(0, 1000), passage(1000, 2500)], lag_frames: 24_000, rate_hz: 48_000 } as unknown as Beside;
  expect(stretchOf(beside, 1)).toEqual({ source: [1.5, 3], built: [1, 2.5] });
  expect(stretchOf(beside, undefined)).toEqual({ source: [0.5, 3], built: [0, 2.5] });
  // A recording that begins within the score.
  expect(stretchOf({ ...beside, lag_frames: -4_800 }, 0)).toEqual({ source: [0, 0.9], built: [0.1, 1] });
});

test("the louder one is lowered, and never the other raised", () => {
  expect(equallyLoud(6)[1]).toBe(1);
  expect(equallyLoud(6)[0]).toBeCloseTo(0.501, 3);
  expect(equallyLoud(-6)[0]).toBe(1);
});

test("thirds of octaves lie where the standard says", () => {
  expect(thirdHz(16)).toBeCloseTo(1000, 6);
});

test("bands are meaned over the passages that tell them", () => {
  const passage = (...bands_db: (number | null)[]) => ({ source: { bands_db }, built: { bands_db: [] } }) as unknown as PassageBeside;
  expect(meanBands([passage(-10, null, null), passage(-20, -30, null)], "source")).toEqual([-15, -30, undefined]);
  expect(meanBands([], "built")).toEqual([]);
});
