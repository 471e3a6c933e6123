import { describe, expect, it } from "vitest";
import { filesOf } from "./contents";

const cut = { first: 16, next: 64, more: 3 };
const names = (frames: number, first?: number, end?: number) =>
  filesOf({ audio: "a", frames, cut }, first, end).map((file) => `${file.url} ${file.first}-${file.end}`);

describe("the files of a sample", () => {
  it("lie one behind the other, the first of them short", () => {
    expect(names(15)).toEqual(["a-0.flac 0-15"]);
    expect(names(16)).toEqual(["a-0.flac 0-16"]);
    expect(names(17)).toEqual(["a-0.flac 0-16", "a-1.flac 16-17"]);
    expect(names(150)).toEqual(["a-0.flac 0-16", "a-1.flac 16-80", "a-2.flac 80-144", "a-3.flac 144-150"]);
  });
  it("are those that hold what is asked for, and no others", () => {
    expect(names(150, 0, 16)).toEqual(["a-0.flac 0-16"]);
    expect(names(150, 15, 17)).toEqual(["a-0.flac 0-16", "a-1.flac 16-80"]);
    expect(names(150, 80, 150)).toEqual(["a-2.flac 80-144", "a-3.flac 144-150"]);
    expect(names(150, 149, 400)).toEqual(["a-3.flac 144-150"]);
  });
});
