// Files that wait to become takes: a row each, what was said of it by hand, and where it goes.
import type { Schemas } from "../api/client";

export type Row = Schemas["FileRow"];

/** What was said of a row by hand. */
export interface Mended {
  key?: number;
  layer?: number;
  round_robin?: number;
  key_up?: boolean;
}

/** Where a row's file goes. */
export type Place = Omit<Schemas["PlacedFile"], "key"> & { key: number | undefined };

export function placeOf(row: Row, mended: Mended | undefined): Place {
  const place = {
    file: row.id,
    right: row.right?.id,
    key: row.key ?? undefined,
    layer: row.layer,
    round_robin: row.round_robin,
    key_up: row.guess.key_up,
    mic: row.guess.mic,
  };
  return { ...place, ...mended };
}

/** A turn as it is typed, from 1; counted from 0. */
export function parseTurn(text: string): number | undefined {
  const turn = Number(text) - 1;
  return Number.isInteger(turn) && turn >= 0 && turn < 64 ? turn : undefined;
}
