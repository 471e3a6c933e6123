import { describe, expect, it } from "vitest";
import { hasSet, ofSet } from "./bringing";

const file = (name: string, bytes = 10) => new File([new Uint8Array(bytes)], name);

describe("files that are gone through first", () => {
  it("are told by an SFZ, a SoundFont or a zip among them", () => {
    expect(hasSet([file("a.wav"), file("Organ/a.SFZ")])).toBe(true);
    expect(hasSet([file("many.sf2")])).toBe(true);
    expect(hasSet([file("a.wav"), file("readme.txt")])).toBe(false);
  });
  it("are sent with their recordings and what may be included, and without what is hidden or large and neither", () => {
    const all = [
      file("Organ/a.sfz"),
      file("Organ/samples/a.wav", 3 << 20),
      file("Organ/keys.inc"),
      file("Organ/film.bin", 2 << 20),
      file("Organ/.trash/a.wav"),
      file("__MACOSX/a.wav"),
    ];
    expect(ofSet(all).map(({ name }) => name)).toEqual(["Organ/a.sfz", "Organ/samples/a.wav", "Organ/keys.inc"]);
  });
});
