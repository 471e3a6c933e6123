// The course of loudness, drawn: what of it stands where, in time and in dB.
import type { Schemas } from "../api/client";

export type Loudness = Schemas["Loudness"];

/** What a course is drawn in, in pixels. */
export interface Frame {
  width: number;
  height: number;
}

/** Quieter is drawn at the bottom. */
const LOWEST_DB = -60;
/** Times are drawn by their logarithm: as much room for 20 ms more of 20 as for 2 s more of 2. */
const NEAR_MS = 20;
const FAR_MS = 60_000;
/** How much of the width a part has at most, and how long a held key is shown. */
const PARTS = { before: 0.08, attack: 0.24, hold: 0.1, decay: 0.24, held: 0.03, release: 0.26 };

/** The decay has so much room at least, so that its end lies apart from that of the attack. */
const LEAST_DECAY = 0.05;

const share = (ms: number) => Math.min(1, Math.log2(1 + ms / NEAR_MS) / Math.log2(1 + FAR_MS / NEAR_MS));
const msOf = (of: number) => NEAR_MS * (2 ** (Math.min(1, Math.max(0, of)) * Math.log2(1 + FAR_MS / NEAR_MS)) - 1);

const y = (db: number, { height }: Frame) => Math.min(1, Math.max(0, db / LOWEST_DB)) * height;

/** A place on the curve that is taken hold of. */
export type Handle = "attack" | "decay" | "release";

export interface Course {
  /** Where the curve goes, point by point. */
  points: { x: number; y: number }[];
  handles: Record<Handle, { x: number; y: number }>;
  /** Where the key comes up. */
  keyUp: number;
}

export function courseOf(loudness: Loudness, frame: Frame): Course {
  const { width, height } = frame;
  const wide = (part: keyof typeof PARTS, ms: number) => PARTS[part] * width * share(ms);
  const least = LEAST_DECAY * width;
  const from = wide("before", loudness.delay_ms);
  const up = from + wide("attack", loudness.attack_ms);
  const held = up + wide("hold", loudness.hold_ms);
  const down = held + least + wide("decay", loudness.decay_ms);
  const keyUp = down + PARTS.held * width;
  const silent = keyUp + wide("release", loudness.release_ms);
  // Straight in amplitude on the way up, and so bent in dB.
  const rise = Array.from({ length: 24 }, (_, n) => (n + 1) / 24).map((at) => ({
    x: from + (up - from) * at,
    y: y(20 * Math.log10(at), frame),
  }));
  const sustain = y(loudness.sustain_db, frame);
  return {
    points: [
      { x: 0, y: height },
      { x: from, y: height },
      ...rise,
      { x: held, y: 0 },
      { x: down, y: sustain },
      { x: keyUp, y: sustain },
      { x: silent, y: height },
    ],
    handles: { attack: { x: up, y: 0 }, decay: { x: down, y: sustain }, release: { x: silent, y: height } },
    keyUp,
  };
}

const rounded = (ms: number) => (ms < 10 ? Math.round(ms * 10) / 10 : ms < 100 ? Math.round(ms) : Number(ms.toPrecision(3)));

/** What a handle says once it is dragged by so many pixels. */
export function draggedBy(loudness: Loudness, handle: Handle, by: { x: number; y: number }, frame: Frame): Partial<Loudness> {
  const { width, height } = frame;
  const time = (part: keyof typeof PARTS, ms: number) => rounded(msOf(share(ms) + by.x / (PARTS[part] * width)));
  switch (handle) {
    case "attack":
      return { attack_ms: time("attack", loudness.attack_ms) };
    case "release":
      return { release_ms: time("release", loudness.release_ms) };
    case "decay": {
      const db = Math.max(LOWEST_DB, loudness.sustain_db) + (by.y / height) * LOWEST_DB;
      return {
        decay_ms: time("decay", loudness.decay_ms),
        sustain_db: Math.min(0, Math.max(LOWEST_DB, Math.round(db * 10) / 10)),
      };
    }
  }
}
