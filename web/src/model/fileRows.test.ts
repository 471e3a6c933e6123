import { expect, test } from "vitest";
import { parseTurn, placeOf, type Row } from "./fileRows";

const row = { id: 3, key: null, layer: 1, round_robin: 0, guess: { key_up: false, mic: null } } as unknown as Row;

test("what was said by hand stands over what the name told", () => {
  expect(placeOf(row, undefined)).toMatchObject({ file: 3, key: undefined, layer: 1 });
  expect(placeOf(row, { key: 61, key_up: true })).toMatchObject({ file: 3, key: 61, layer: 1, key_up: true });
});

test("turns are typed from one and counted from zero", () => {
  expect(parseTurn("1")).toBe(0);
  expect(["0", "1.5", "65", "two"].map(parseTurn)).toEqual([undefined, undefined, undefined, undefined]);
});
