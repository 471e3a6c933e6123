// Names of keys: middle C, key 60, is C4, or C3 where its user is used to that.
const SHARPS = ["C", "C♯", "D", "D♯", "E", "F", "F♯", "G", "G♯", "A", "A♯", "B"];

export type MiddleC = "C4" | "C3";

/** Octaves that names lie below those in which middle C is C4. */
let lower = 0;

/** From now on keys are named so; what shows them is drawn anew by whoever says it. */
export function callMiddleC(name: MiddleC): void {
  lower = name === "C3" ? 1 : 0;
}

export function keyName(key: number): string {
  return `${SHARPS[((key % 12) + 12) % 12]}${Math.floor(key / 12) - 1 - lower}`;
}

/** A sentence of the server's, whose notes are named with middle C as C4. */
export function inWords(sentence: string): string {
  if (lower === 0) return sentence;
  return sentence.replace(/\b([A-G][♯♭]?)(-?\d)(?![\w♯♭])/g, (_, note: string, octave: string) => `${note}${Number(octave) - lower}`);
}

export function isBlack(key: number): boolean {
  return [1, 3, 6, 8, 10].includes(key % 12);
}

/** `C#3`, `Bb2`, `60`; undefined where it is none. */
export function parseKey(text: string): number | undefined {
  const plain = text.trim();
  if (/^\d{1,3}$/.test(plain)) return inRange(Number(plain));
  const match = /^([A-Ga-g])([#♯b♭]?)(-?\d)$/.exec(plain);
  if (!match) return undefined;
  const step = { C: 0, D: 2, E: 4, F: 5, G: 7, A: 9, B: 11 }[match[1]!.toUpperCase() as "C"];
  const shift = match[2] === "" ? 0 : "#♯".includes(match[2]!) ? 1 : -1;
  return inRange(step + shift + 12 * (Number(match[3]) + 1 + lower));
}

function inRange(key: number): number | undefined {
  return key >= 0 && key <= 127 ? key : undefined;
}

export function hzOfKey(key: number): number {
  return 440 * 2 ** ((key - 69) / 12);
}

/** What is struck together at a rung, from low to high, the rung among it. */
export function chordAt(chord: number[], rung: number): string {
  return [...chord, 0]
    .sort((a, b) => a - b)
    .map((by) => keyName(rung + by))
    .join(" ");
}
