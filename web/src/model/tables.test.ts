import { expect, it } from "vitest";
import { filtered, sorted, tableText } from "./tables";

const rows = [
  { name: "Bars C4 soft", n: 3 },
  { name: "Bars C4 loud", n: 1 },
  { name: "Bars D4 soft", n: 3 },
];

it("rows are filtered by every word", () => {
  expect(filtered(rows, "c4 SOFT", (row) => row.name)).toEqual([rows[0]]);
  expect(filtered(rows, "  ", (row) => row.name)).toBe(rows);
});

it("rows are sorted, and those that are alike stay in order", () => {
  const by = (down: boolean) => sorted(rows, { column: 0, down }, (row) => row.n).map((row) => row.name);
  expect(by(false)).toEqual(["Bars C4 loud", "Bars C4 soft", "Bars D4 soft"]);
  expect(by(true)).toEqual(["Bars C4 soft", "Bars D4 soft", "Bars C4 loud"]);
});

it("cells hold neither tabs nor lines", () => {
  expect(tableText([["a\tb", "c"], ["d"]])).toBe("a b\tc\nd");
});
