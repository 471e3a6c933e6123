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

/** How the parts bend, each a number of its own. */
export interface Bends {
  attack_bend: number;
  decay_bend: number;
  release_bend: number;
}

const BENDING = ["attack_bend", "decay_bend", "release_bend"] as const;

/** Of bends in a row, each by its name. */
export type Flat<T> = Omit<T, "bends"> & Bends;

export function flat<T extends { bends?: number[] }>({ bends, ...rest }: T): Flat<T> {
  const [attack_bend = 0, decay_bend = 0, release_bend = 0] = bends ?? [];
  return { ...rest, attack_bend, decay_bend, release_bend };
}

/** The same in a row again. */
export function inRow<T>({ attack_bend, decay_bend, release_bend, ...rest }: Flat<T>) {
  return { ...rest, bends: [attack_bend, decay_bend, release_bend] };
}

/** A place on the curve that is taken hold of: an end of a part, or its middle, by which it bends. */
export type Handle = "attack" | "decay" | "release" | keyof Bends;

export const isBend = (handle: Handle): handle is keyof Bends => (BENDING as readonly string[]).includes(handle);

export interface Point {
  x: number;
  y: number;
}

export interface Course {
  /** Where the curve goes, point by point. */
  points: Point[];
  handles: Record<"attack" | "decay" | "release", Point> & Partial<Record<keyof Bends, Point>>;
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
/** A part is bent by its middle where that lies apart from its ends. */
const LEAST_TO_BEND = 28;

/** A part from one place to another, as what it is at a share of its time is drawn; and where it is bent. */
function part(from: number, to: number, at: (share: number) => number) {
  const x = (share: number) => from + (to - from) * share;
  return {
    points: STEPS.map((share) => ({ x: x(share), y: at(share) })),
    middle: to - from < LEAST_TO_BEND ? undefined : { x: x(0.5), y: at(0.5) },
  };
}

type Part = ReturnType<typeof part>;

const middles = (attack: Part, decay: Part, release: Part): Partial<Record<keyof Bends, Point>> => ({
  ...(attack.middle && { attack_bend: attack.middle }),
  ...(decay.middle && { decay_bend: decay.middle }),
  ...(release.middle && { release_bend: release.middle }),
});

export function courseOf(loudness: Flat<Loudness>, frame: Frame): Course {
  const { height } = frame;
  const { from, up, held, down, keyUp, silent } = laidOut(loudness, frame.width);
  const { sustain_db } = loudness;
  const sustain = y(sustain_db, frame);
  // Straight in amplitude on the way up, and so bent in dB.
  const attack = part(from, up, (share) => y(20 * Math.log10(bent(share, loudness.attack_bend)), frame));
  const decay = part(held, down, (share) => y(sustain_db * bent(share, loudness.decay_bend), frame));
  const release = part(keyUp, silent, (share) => y(sustain_db + (LOWEST_DB - sustain_db) * bent(share, loudness.release_bend), frame));
  return {
    points: [
      { x: 0, y: height },
      { x: from, y: height },
      ...attack.points,
      { x: held, y: 0 },
      ...decay.points,
      { x: keyUp, y: sustain },
      ...release.points,
    ],
    handles: {
      attack: { x: up, y: 0 },
      decay: { x: down, y: sustain },
      release: { x: silent, y: height },
      ...middles(attack, decay, release),
    },
    keyUp,
  };
}

/** A share of a way that bends, as `program::bent` has it. */
export function bent(at: number, bend: number): number {
  const k = bend * Math.log(100);
  return Math.abs(k) < 1e-6 ? at : Math.expm1(k * at) / Math.expm1(k);
}

/** The course of something else than loudness, from nothing at the bottom to all at the top. */
export function drivenCourseOf(course: Flat<DrivenCourse>, frame: Frame): Course {
  const { height } = frame;
  const { from, up, held, down, keyUp, silent } = laidOut(course, frame.width);
  const { sustain } = course;
  const level = (value: number) => height * (1 - value);
  const attack = part(from, up, (share) => level(bent(share, course.attack_bend)));
  const decay = part(held, down, (share) => level(1 + (sustain - 1) * bent(share, course.decay_bend)));
  const release = part(keyUp, silent, (share) => level(sustain * (1 - bent(share, course.release_bend))));
  return {
    points: [
      { x: 0, y: height },
      { x: from, y: height },
      ...attack.points,
      { x: held, y: 0 },
      ...decay.points,
      { x: keyUp, y: level(sustain) },
      ...release.points,
    ],
    handles: {
      attack: { x: up, y: 0 },
      decay: { x: down, y: level(sustain) },
      release: { x: silent, y: height },
      ...middles(attack, decay, release),
    },
    keyUp,
  };
}

/** A part once its middle is dragged up or down: what rises bends early where it is pulled up, what falls bends late. */
function bentBy(course: Bends, handle: keyof Bends, by: number, height: number): Partial<Bends> {
  const bend = course[handle] + ((handle === "attack_bend" ? 2 : -2) * by) / height;
  return { [handle]: Math.min(1, Math.max(-1, Math.round(bend * 100) / 100)) };
}

const rounded = (ms: number) => (ms < 10 ? Math.round(ms * 10) / 10 : ms < 100 ? Math.round(ms) : Number(ms.toPrecision(3)));

/** A time once its part is dragged by so many pixels. */
const timeBy = (part: keyof typeof PARTS, ms: number, by: number, width: number) => rounded(msOf(share(ms) + by / (PARTS[part] * width)));

/** What a handle says once it is dragged by so many pixels. */
export function draggedBy(loudness: Flat<Loudness>, handle: Handle, by: Point, { width, height }: Frame): Partial<Flat<Loudness>> {
  if (isBend(handle)) return bentBy(loudness, handle, by.y, height);
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
  course: Flat<DrivenCourse>,
  handle: Handle,
  by: Point,
  { width, height }: Frame,
): Partial<Flat<DrivenCourse>> {
  if (isBend(handle)) return bentBy(course, handle, by.y, height);
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
