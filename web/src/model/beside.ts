// An instrument beside its source: passages in words, and what is drawn of them.
import type { Schemas } from "../api/client";
import { keyName } from "./keys";
import { signed } from "./units";

export type Beside = Schemas["BesideView"];
export type PassageBeside = Schemas["PassageBeside"];
export type Apart = Schemas["Apart"];

/** The middle of the first third of an octave, as a power of ten by tenths (IEC 61260-1). */
const FIRST_THIRD = 14;

export const thirdHz = (n: number) => 10 ** ((FIRST_THIRD + n) / 10);

export function passageName({ passage }: PassageBeside): string {
  return `${passage.keys.map(keyName).join(" ")} · ${passage.strike}`;
}

/** How far the source lies over what was built, as a table shows it. */
export function apartLines(before: Apart, after: Apart | undefined): { what: string; now: string; then: string }[] {
  const line = (what: string, of: (apart: Apart) => number, unit: string, digits = 1) => ({
    what,
    now: `${of(before).toFixed(digits)} ${unit}`,
    then: after ? `${of(after).toFixed(digits)} ${unit}` : "",
  });
  return [
    line("level", (of) => of.level_db, "dB"),
    line("thirds of octaves", (of) => of.spectrum_db, "dB"),
    line("level over time", (of) => of.course_db, "dB"),
    line("movement", (of) => of.moves_db, "dB"),
    line("pace of it", (of) => of.moves_octaves, "oct"),
    line("width", (of) => of.side_db, "dB"),
    line("pitch", (of) => of.cents, "ct"),
  ];
}

/** What differs in one passage: only what was heard in both. */
export function passageFigures({ apart }: PassageBeside): string[] {
  const figure = (name: string, value: number | null | undefined, unit: string, digits: number) =>
    value == null ? [] : [`${name} ${signed(value, digits)} ${unit}`];
  return [
    ...figure("level", apart.level_db, "dB", 1),
    ...figure("pitch", apart.cents, "ct", 1),
    ...figure("attack", apart.attack_ms, "ms", 0),
    ...figure("tail", apart.tail_ms, "ms", 0),
  ];
}

/**
 * Where one passage lies in both sounds, or all of them, in seconds: in the recording of the source later by so much as was found, and from its first
 * frame on.
 */
export function stretchOf(
  { passages, lag_frames, rate_hz }: Pick<Beside, "passages" | "lag_frames" | "rate_hz">,
  n: number | undefined,
): { source: [number, number]; built: [number, number] } {
  const of = n === undefined ? passages : passages.slice(n, n + 1);
  const late = lag_frames / rate_hz;
  const from = Math.max((of[0]?.passage.at_ms ?? 0) / 1000, -late);
  const to = (of.at(-1)?.passage.end_ms ?? 0) / 1000;
  return { source: [from + late, to + late], built: [from, to] };
}

/** What both are multiplied by to be equally loud: the louder one is lowered. */
export function equallyLoud(louderDb: number): [number, number] {
  return [10 ** (Math.min(0, -louderDb) / 20), 10 ** (Math.min(0, louderDb) / 20)];
}

type PhraseEvent = Schemas["PhraseEvent"];

/** The notes of a phrase with their ends, in order; what is never let go ends with the phrase. */
export function scoreOf(events: PhraseEvent[], lengthMs: number): Schemas["ScoreNote"][] {
  const notes: Schemas["ScoreNote"][] = [];
  const down = new Map<string, Schemas["ScoreNote"]>();
  for (const { at_ms, bytes } of events) {
    const [status = 0, key = 0, strike = 0] = bytes;
    const name = `${status & 0x0f} ${key}`;
    const begins = (status & 0xf0) === 0x90 && strike > 0;
    const ends = (status & 0xf0) === 0x80 || ((status & 0xf0) === 0x90 && strike === 0);
    if (!begins && !ends) continue;
    const before = down.get(name);
    if (before) before.until_ms = Math.max(at_ms, before.at_ms + 1);
    down.delete(name);
    if (!begins) continue;
    const note = { at_ms, until_ms: Math.max(lengthMs, at_ms + 1), key, strike };
    down.set(name, note);
    notes.push(note);
  }
  return notes;
}

/** The mean of what is heard of some passages in each third of an octave; nothing where none tells. */
export function meanBands(passages: PassageBeside[], of: "source" | "built"): (number | undefined)[] {
  const width = passages[0]?.source.bands_db.length ?? 0;
  return Array.from({ length: width }, (_, n) => {
    const known = passages.flatMap((passage) => {
      const value = passage[of].bands_db[n];
      return value == null ? [] : [value];
    });
    return known.length > 0 ? known.reduce((a, b) => a + b, 0) / known.length : undefined;
  });
}
