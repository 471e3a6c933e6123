import { expect, test } from "vitest";
import type { BoardCell } from "./cells";
import { alongSteps, counts, type FindingView, goneSince, nextOf, shareRight, toRecordAgain, unitOf, worstOnCells } from "./findings";

const finding = (key: number, step: FindingView["step"], more: Partial<FindingView> = {}): FindingView => ({
  kind: "hum",
  says: "",
  key,
  title: "Hum",
  place: "C4 loud",
  step,
  wrong: false,
  times: 1.5,
  ...more,
});

const cell = { pass: 0, key: 60, layer: 0, round_robin: 0 };

test("what is accepted is neither wrong nor to look at", () => {
  const all = [finding(1, "trim", { wrong: true }), finding(2, "map"), finding(3, "map", { wrong: true, accepted: "so be it" })];
  expect(counts(all)).toEqual({ wrong: 1, look: 1, accepted: 1 });
});

test("one after another, along the steps, and no further than the last", () => {
  const all = alongSteps([finding(1, "map"), finding(2, "trim"), finding(3, "tune", { accepted: "it is so" }), finding(4, "trim")]);
  expect(all.map(({ key }) => key)).toEqual([2, 4, 1]);
  expect(nextOf(all, undefined, 1)?.key).toBe(2);
  expect(nextOf(all, 4, 1)?.key).toBe(1);
  expect(nextOf(all, 1, 1)?.key).toBe(1);
  expect(nextOf(all, 4, -1)?.key).toBe(2);
});

test("a cell shows the worst that is left on it", () => {
  const all = [finding(1, "trim", { cell, accepted: "yes" }), finding(2, "tune", { cell }), finding(3, "loop", { cell })];
  expect([...worstOnCells(all).values()].map(({ key }) => key)).toEqual([2]);
});

test("what of an earlier look is no more is told once all of it was listened to again", () => {
  const before = [
    { key: 1, what: "Hum C4" },
    { key: 2, what: "DC E4" },
  ];
  const now = { findings: [finding(2, "trim")], to_hear: 0 };
  expect(goneSince(before, now)).toEqual([before[0]]);
  expect(goneSince(before, { ...now, to_hear: 3 })).toEqual([]);
});

test("cells are recorded again once each, where nothing else mends what is wrong with them", () => {
  const mend = { label: "", changes: "", wishes: [] };
  const other = { ...cell, key: 64 };
  const all = [
    finding(1, "record", { cell }),
    finding(2, "record", { cell, kind: "clipped" }),
    finding(3, "record", { cell: other, mend }),
    finding(4, "record", { cell: other, kind: "not_recorded" }),
    finding(5, "trim", { cell: other }),
    finding(6, "record", { cell: other, accepted: "a door belongs here" }),
  ];
  expect(toRecordAgain(all)).toEqual([cell]);
});

test("as much is right as there are cells on which nothing is left", () => {
  const take = {} as BoardCell["take"];
  const on = (key: number, taken: boolean): BoardCell => ({
    id: `0/${key}/0/0`,
    cell: { ...cell, key },
    layer: 0,
    column: 0,
    take: taken ? take : undefined,
    refused: false,
  });
  const cells = [on(60, true), on(61, true), on(62, false), on(63, true)];
  expect(shareRight(cells, [finding(1, "trim", { cell })])).toBe(0.5);
  expect(shareRight(cells, [finding(1, "trim", { cell, accepted: "so be it" })])).toBe(0.75);
  expect(shareRight([], [])).toBe(0);
});

test("limits are read with their units, a real minus too", () => {
  const level = unitOf("level");
  expect(level.show(-54)).toBe("−54.0 dB");
  expect(level.parse("−48,5 dB")).toBe(-48.5);
  expect(unitOf("ms").show(10)).toBe("10 ms");
});
