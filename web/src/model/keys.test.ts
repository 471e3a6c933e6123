import { expect, test } from "vitest";
import { callMiddleC, chordAt, hzOfKey, inWords, isBlack, keyName, parseKey } from "./keys";

test("every key's name is that key", () => {
  for (let key = 0; key < 128; key++) expect(parseKey(keyName(key))).toBe(key);
});

test("where middle C is C3, names are read and written so, and sentences say so", () => {
  callMiddleC("C3");
  expect(keyName(60)).toBe("C3");
  for (let key = 0; key < 128; key++) expect(parseKey(keyName(key))).toBe(key);
  expect(inWords("This is F♯4, the cell is C-1: 3 dB too soft, 44 kHz.")).toBe("This is F♯3, the cell is C-2: 3 dB too soft, 44 kHz.");
  callMiddleC("C4");
  expect(inWords("This is F♯4.")).toBe("This is F♯4.");
});

test("names as people type them", () => {
  expect(parseKey("Bb2")).toBe(46);
  expect(parseKey(" c#3 ")).toBe(49);
  expect(parseKey("60")).toBe(60);
  for (const none of ["H3", "C", "C10", "128", "", "C♯♯3"]) expect(parseKey(none), none).toBeUndefined();
});

// ISO 16: A4 is 440 Hz. MIDI 1.0: it is key 69.
test("keys are tempered from 440 Hz", () => {
  expect(hzOfKey(69)).toBe(440);
  expect(hzOfKey(60)).toBeCloseTo(261.626, 3);
});

test("a chord is told from its lowest note", () => {
  expect(chordAt([4, 7], 60)).toBe("C4 E4 G4");
  expect(chordAt([-5, 3], 69)).toBe("E4 A4 C5");
});

test("an octave has five black keys", () => {
  expect(Array.from({ length: 12 }, (_, key) => isBlack(60 + key)).filter(Boolean)).toHaveLength(5);
});
