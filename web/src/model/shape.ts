// The course of loudness, drawn: what of it stands where, in time and in dB.
import type { Schemas } from "../api/client";
import type { DrivenCourse } from "./driving";

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

type Times = Pick<Loudness, "delay_ms" | "attack_ms" | "hold_ms" | "decay_ms" | "release_ms">;

/** Where the parts of a course end, from left to right. */
function laidOut(times: Times, width: number) {
  const wide = (part: keyof typeof PARTS, ms: number) => PARTS[part] * width * share(ms);
  const from = wide("before", times.delay_ms);
  const up = from + wide("attack", times.attack_ms);
  const held = up + wide("hold", times.hold_ms);
  const down = held + LEAST_DECAY * width + wide("decay", times.decay_ms);
  const keyUp = down + PARTS.held * width;
  return { from, up, held, down, keyUp, silent: keyUp + wide("release", times.release_ms) };
}

const STEPS = Array.from({ length: 24 }, (_, n) => (n + 1) / 24);

export function courseOf(loudness: Loudness, frame: Frame): Course {
  const { height } = frame;
  const { from, up, held, down, keyUp, silent } = laidOut(loudness, frame.width);
  // Straight in amplitude on the way up, and so bent in dB.
  const rise = STEPS.map((at) => ({ x: from + (up - from) * at, y: y(20 * Math.log10(at), frame) }));
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

/** A share of a way that bends, as `program::bent` has it. */
export function bent(at: number, bend: number): number {
  const k = bend * Math.log(100);
  return Math.abs(k) < 1e-6 ? at : Math.expm1(k * at) / Math.expm1(k);
}

/** The course of something else than loudness, from nothing at the bottom to all at the top. */
export function drivenCourseOf(course: DrivenCourse, frame: Frame): Course {
  const { height } = frame;
  const { from, up, held, down, keyUp, silent } = laidOut(course, frame.width);
  const [attack, decay, release] = course.bends ?? [0, 0, 0];
  const level = (value: number) => height * (1 - value);
  const way = (a: number, b: number, low: number, high: number, bend: number) =>
    STEPS.map((at) => ({ x: a + (b - a) * at, y: level(low + (high - low) * bent(at, bend)) }));
  const { sustain } = course;
  return {
    points: [
      { x: 0, y: height },
      { x: from, y: height },
      ...way(from, up, 0, 1, attack ?? 0),
      { x: held, y: 0 },
      ...way(held, down, 1, sustain, decay ?? 0),
      { x: keyUp, y: level(sustain) },
      ...way(keyUp, silent, sustain, 0, release ?? 0),
    ],
    handles: { attack: { x: up, y: 0 }, decay: { x: down, y: level(sustain) }, release: { x: silent, y: height } },
    keyUp,
  };
}

const rounded = (ms: number) => (ms < 10 ? Math.round(ms * 10) / 10 : ms < 100 ? Math.round(ms) : Number(ms.toPrecision(3)));

/** A time once its part is dragged by so many pixels. */
const timeBy = (part: keyof typeof PARTS, ms: number, by: number, width: number) => rounded(msOf(share(ms) + by / (PARTS[part] * width)));

/** What a handle says once it is dragged by so many pixels. */
export function draggedBy(loudness: Loudness, handle: Handle, by: { x: number; y: number }, { width, height }: Frame): Partial<Loudness> {
  switch (handle) {
    case "attack":
      return { attack_ms: timeBy("attack", loudness.attack_ms, by.x, width) };
    case "release":
      return { release_ms: timeBy("release", loudness.release_ms, by.x, width) };
    case "decay": {
      const db = Math.max(LOWEST_DB, loudness.sustain_db) + (by.y / height) * LOWEST_DB;
      return {
        decay_ms: timeBy("decay", loudness.decay_ms, by.x, width),
        sustain_db: Math.min(0, Math.max(LOWEST_DB, Math.round(db * 10) / 10)),
      };
    }
  }
}

/** The same of the course of something else. */
export function drivenDraggedBy(
  course: DrivenCourse,
  handle: Handle,
  by: { x: number; y: number },
  { width, height }: Frame,
): Partial<DrivenCourse> {
  switch (handle) {
    case "attack":
      return { attack_ms: timeBy("attack", course.attack_ms, by.x, width) };
    case "release":
      return { release_ms: timeBy("release", course.release_ms, by.x, width) };
    case "decay":
      return {
        decay_ms: timeBy("decay", course.decay_ms, by.x, width),
        sustain: Math.min(1, Math.max(0, Math.round((course.sustain - by.y / height) * 100) / 100)),
      };
  }
}
