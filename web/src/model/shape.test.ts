import { expect, test } from "vitest";
import { bent, courseOf, draggedBy, drivenCourseOf, drivenDraggedBy, flat, inRow } from "./shape";

const frame = { width: 400, height: 90 };
const loudness = flat({
  delay_ms: 0,
  attack_ms: 20,
  hold_ms: 0,
  decay_ms: 1000,
  sustain_db: -6,
  release_ms: 500,
  velocity_to_level: 0.5,
  bends: [0, 0, 0],
});

test("a course goes up, down to where it is held, and to silence after the key", () => {
  const { points, handles, keyUp } = courseOf(loudness, frame);
  const xs = points.map(({ x }) => x);
  expect(xs).toEqual([...xs].sort((a, b) => a - b));
  expect(Math.max(...xs)).toBeLessThanOrEqual(frame.width);
  expect(handles.attack.y).toBe(0);
  expect(handles.decay.y).toBeCloseTo(9);
  expect(handles.release.x).toBeGreaterThan(keyUp);
  expect(points.at(-1)!.y).toBe(frame.height);
});

test("the longest of everything still fits", () => {
  const most = { ...loudness, delay_ms: 6e4, attack_ms: 6e4, hold_ms: 6e4, decay_ms: 6e5, sustain_db: -96, release_ms: 6e5 };
  const { points } = courseOf(most, frame);
  expect(points.every(({ x, y }) => x <= frame.width + 1e-9 && y >= 0 && y <= frame.height)).toBe(true);
});

test("a handle that is dragged lies where the pointer is", () => {
  for (const handle of ["attack", "decay", "release"] as const) {
    const before = courseOf(loudness, frame).handles[handle];
    const after = courseOf({ ...loudness, ...draggedBy(loudness, handle, { x: 20, y: 15 }, frame) }, frame).handles[handle];
    expect(after.x - before.x).toBeCloseTo(20, 0);
    if (handle === "decay") expect(after.y - before.y).toBeCloseTo(15, 0);
  }
  expect(draggedBy(loudness, "attack", { x: -500, y: 0 }, frame)).toEqual({ attack_ms: 0 });
  expect(draggedBy(loudness, "decay", { x: 0, y: -500 }, frame).sustain_db).toBe(0);
});

const course = flat({ delay_ms: 0, attack_ms: 20, hold_ms: 0, decay_ms: 1000, sustain: 0.5, release_ms: 500, bends: [0, 1, 0] });

test("the course of something else goes up to all, bends, and is dragged as the pointer goes", () => {
  const { points, handles } = drivenCourseOf(course, frame);
  const xs = points.map(({ x }) => x);
  expect(xs).toEqual([...xs].sort((a, b) => a - b));
  expect(handles.decay.y).toBe(45);
  // Late: half of the way over it is a tenth down.
  expect(bent(0.5, 1)).toBeCloseTo(1 / 11);
  expect(bent(0.5, 0)).toBe(0.5);
  for (const handle of ["attack", "decay", "release"] as const) {
    const after = drivenCourseOf({ ...course, ...drivenDraggedBy(course, handle, { x: 20, y: 9 }, frame) }, frame).handles[handle];
    expect(after.x - handles[handle].x).toBeCloseTo(20, 0);
  }
  expect(drivenDraggedBy(course, "decay", { x: 0, y: 9 }, frame).sustain).toBeCloseTo(0.4);
});

test("a part is bent by its middle, and lies where it was pulled", () => {
  const straight = { ...course, decay_bend: 0 };
  const { decay_bend: before } = drivenCourseOf(straight, frame).handles;
  // What falls and is pulled up falls late; what rises and is pulled up rises early.
  expect(drivenDraggedBy(straight, "decay_bend", { x: 0, y: -9 }, frame)).toEqual({ decay_bend: 0.2 });
  expect(draggedBy(loudness, "attack_bend", { x: 0, y: -9 }, frame)).toEqual({ attack_bend: -0.2 });
  expect(draggedBy(loudness, "release_bend", { x: 0, y: 900 }, frame)).toEqual({ release_bend: -1 });
  const after = drivenCourseOf({ ...straight, decay_bend: 0.2 }, frame).handles.decay_bend!;
  expect(after.y).toBeLessThan(before!.y);
  // A part that is too short to take hold of by its middle has none.
  expect(drivenCourseOf({ ...course, attack_ms: 0 }, frame).handles.attack_bend).toBeUndefined();
  expect(inRow(course).bends).toEqual([0, 1, 0]);
});
