// A walk along the keys: where it goes, what stands out there, and how that differs from what its neighbours tell.
import type { Schemas } from "../api/client";
import { type FindingView, type Findings, isLeft } from "./findings";
import { signed } from "./units";

export type KeySound = Schemas["KeySound"];

export type Way = "up" | "down" | "phrase";

/** One key, struck once; by its place among the keys that were heard. */
export interface Station {
  key: number;
  strike: number;
  place: number;
}

/** A note of a phrase. */
export interface Note {
  key: number;
  strike: number;
}

/** Where a walk goes: along the keys at one strike or at each, or along a phrase, whose notes are heard at the nearest strike. */
export function stations(keys: KeySound[], way: Way, strike: number | undefined, phrase: Note[]): Station[] {
  const all = keys.map(({ key, strike }, place): Station => ({ key, strike, place }));
  if (way === "phrase")
    return phrase.flatMap((note) => {
      const near = all
        .filter(({ key }) => key === note.key)
        .toSorted((a, b) => Math.abs(a.strike - note.strike) - Math.abs(b.strike - note.strike));
      return near.slice(0, 1);
    });
  const turn = way === "up" ? 1 : -1;
  return all
    .filter((one) => strike === undefined || one.strike === strike)
    .toSorted((a, b) => turn * (a.key - b.key) || a.strike - b.strike);
}

/** What is so of more keys is no reason to stop at one of them. */
const MOST_KEYS = 12;

/** What is left to look at on a key, struck so: of that key, or of the few that the same recording plays. */
export function standsOut(findings: FindingView[], { key, strike }: Station): FindingView[] {
  return findings.filter((finding) => {
    const { keys, strikes, cell } = finding;
    if (!isLeft(finding) || !keys || cell) return false;
    const [low, high] = keys as [number, number];
    const struck = strikes ? strikes[0]! <= strike && strike <= strikes[1]! : low === high;
    return low <= key && key <= high && high - low < MOST_KEYS && struck;
  });
}

/** Whether something begins to stand out on a key, after the one before it. */
export function halts(findings: FindingView[], station: Station, before: Station | undefined): boolean {
  const known = new Set(before ? standsOut(findings, before) : []);
  return standsOut(findings, station).some((finding) => !known.has(finding));
}

/** One line of what is heard: as it is, as its neighbours tell, and how far apart those are. */
export interface HeardLine {
  what: string;
  is: string;
  expected: string;
  off: string;
}

export function heardLines({ keys, expected }: Pick<Findings, "keys" | "expected">, { place }: Station): HeardLine[] {
  const is = keys[place];
  const of = expected[place];
  if (!is || !of) return [];
  const show = (value: number | null | undefined) => (value == null ? "–" : value.toFixed(1).replace("-", "−"));
  const line = (what: string, a: number | null | undefined, b: number | null | undefined): HeardLine => ({
    what,
    is: show(a),
    expected: show(b),
    off: a == null || b == null ? "" : signed(a - b, 1),
  });
  return [
    line("level, dBFS", is.level_dbfs, of.level_dbfs),
    line("pitch, cents", is.cents, of.cents),
    line("brightness, key", is.brightness_key, of.brightness_key),
  ];
}

/** Keys of a chord on a key: with the third and the fifth above, as far as they sound. */
export function chordOn(key: number, keys: KeySound[]): number[] {
  const sounds = new Set(keys.map((one) => one.key));
  return [0, 4, 7].map((up) => key + up).filter((one) => one === key || sounds.has(one));
}

/** A mark's number: its key and strike. */
export const markNumber = ({ key, strike }: Pick<Station, "key" | "strike">): number => key + strike * 256;
