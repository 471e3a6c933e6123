// The peaks of a recording in tiles of fixed size, level by level: what was seen once is drawn again at once, and while a tile comes a coarser one stands in.
import { useEffect, useMemo, useReducer } from "react";
import type { Schemas } from "../api/client";

/** Columns of a tile. Each level has twice as many frames under a column as the one below. */
const COLUMNS = 512;
/** So many are kept: the least recently wanted go first. */
const MOST_TILES = 600;
/** What could not be fetched is asked for again after so long: the overview of a long recording is drawn by a job. */
const AGAIN_MS = 500;

/** What can be drawn: a take, or a long take. */
export interface Drawable {
  /** The same for the same sound. */
  id: string;
  frames: number;
  rate_hz: number;
  /** Whether left and right can be shown apart. */
  stereo: boolean;
  /** Of all channels, or of one. */
  peaks: (first: number, end: number, columns: number, channel?: number) => Promise<Schemas["PeaksView"]>;
}

export interface Tile {
  /** First frame, and the first after it. */
  first: number;
  end: number;
  low: Float32Array;
  high: Float32Array;
  rms: Float32Array;
}

interface Place {
  level: number;
  index: number;
}

/** Tiles by take, channel and place; `undefined` while one is on its way. In the order in which they were wanted. */
const kept = new Map<string, Tile | undefined>();

function nameOf(take: Drawable, channel: number | undefined, { level, index }: Place): string {
  return `${take.id}/${channel ?? "all"}/${level}/${index}`;
}

function topLevel(frames: number): number {
  return Math.max(0, Math.ceil(Math.log2(Math.max(1, frames) / COLUMNS)));
}

function span({ level, index }: Place, frames: number): [number, number] {
  const length = COLUMNS * 2 ** level;
  return [index * length, Math.min(frames, (index + 1) * length)];
}

/** What was asked for and could not be had yet. */
const missing = new Set<string>();

/** Who draws. */
const listeners = new Set<() => void>();
let telling: ReturnType<typeof setTimeout> | undefined;

/** Tiles that come together are drawn together. */
function tell(): void {
  telling ??= setTimeout(() => {
    telling = undefined;
    for (const listener of listeners) listener();
  }, 12);
}

/** A tile, if it is at hand; else it is sent for. */
function tileAt(take: Drawable, channel: number | undefined, place: Place): Tile | undefined {
  const name = nameOf(take, channel, place);
  if (kept.has(name)) {
    const tile = kept.get(name);
    kept.delete(name);
    kept.set(name, tile);
    return tile;
  }
  kept.set(name, undefined);
  const [first, end] = span(place, take.frames);
  take.peaks(first, end, Math.ceil((end - first) / 2 ** place.level), channel).then(
    ({ low, high, rms }) => {
      missing.delete(name);
      kept.set(name, { first, end, low: Float32Array.from(low), high: Float32Array.from(high), rms: Float32Array.from(rms) });
      for (const oldest of kept.keys()) {
        if (kept.size <= MOST_TILES) break;
        kept.delete(oldest);
      }
      tell();
    },
    () =>
      setTimeout(() => {
        missing.add(name);
        kept.delete(name);
        tell();
      }, AGAIN_MS),
  );
  return undefined;
}

/** The finest tile at hand that covers a place. */
function standIn(take: Drawable, channel: number | undefined, { level, index }: Place): Tile | undefined {
  for (let up = 1; level + up <= topLevel(take.frames); up++) {
    const found = kept.get(nameOf(take, channel, { level: level + up, index: Math.floor(index / 2 ** up) }));
    if (found) return found;
  }
  return undefined;
}

export interface Seen {
  /** Each with the stretch that it is drawn for. */
  tiles: { tile: Tile; from: number; to: number }[];
  /** Nothing is there yet, and what was asked for is still to be made. */
  waiting: boolean;
}

/** Tiles that draw frames `first..end` on so many pixels. */
export function useTiles(take: Drawable, first: number, end: number, width: number, channel: number | undefined, enabled = true): Seen {
  const [came, come] = useReducer((count: number) => count + 1, 0);
  useEffect(() => {
    listeners.add(come);
    return () => void listeners.delete(come);
  }, []);
  return useMemo(() => {
    if (!enabled) return { tiles: [], waiting: false };
    const top = topLevel(take.frames);
    const level = Math.min(top, Math.max(0, Math.floor(Math.log2((end - first) / Math.max(1, width)))));
    const length = COLUMNS * 2 ** level;
    // The whole is always sent for: it stands in for all others.
    tileAt(take, channel, { level: top, index: 0 });
    const tiles: Seen["tiles"] = [];
    for (let index = Math.floor(first / length); index * length < end; index++) {
      const place = { level, index };
      const tile = tileAt(take, channel, place) ?? standIn(take, channel, place);
      const [from, to] = span(place, take.frames);
      if (tile) tiles.push({ tile, from: Math.max(first, from), to: Math.min(end, to) });
    }
    return { tiles, waiting: tiles.length === 0 && missing.has(nameOf(take, channel, { level: top, index: 0 })) };
    // eslint-disable-next-line react-hooks/exhaustive-deps -- what is at hand is read from outside; `came` counts what was added to it
  }, [take, first, end, width, channel, enabled, came]);
}
