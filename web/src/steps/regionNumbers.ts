// The numbers of regions: how they are called, what stands in them, and how they are set.
import { answer, api, type Fact, type Schemas } from "../api/client";
import type { Wish } from "../model/edited";
import { fitted, type Ranged } from "../model/ranges";
import { type Placed, type Side, withSide } from "../model/regions";
import { cents, count, decibels, grouped, key, share, type Unit } from "../model/units";
import { act } from "../state/edits";
import { sayError } from "../state/view";

/** A number of a region. */
export interface RegionNumber extends Ranged {
  fact: Fact;
  label: string;
  /** In the head of a table. */
  short: string;
  unit: Unit;
  of: (placed: Placed) => number;
  /** Where it is a limit of where the region lies. */
  side?: Side;
}

const frames: Unit = { ...count, show: grouped, step: 100, fine: 1 };

const side = (side: Side, fact: Fact, label: string, short: string, unit: Unit, lowest: number): RegionNumber => ({
  fact,
  label,
  short,
  unit,
  of: (placed) => placed.extent[side],
  within: [lowest, 127],
  whole: true,
  side,
});

/** What a region sounds on. */
export const LIMITS: RegionNumber[] = [
  side("lowKey", "region_low_key", "Lowest key", "from", key, 0),
  side("highKey", "region_high_key", "Highest key", "to", key, 0),
  side("lowStrike", "region_low_strike", "Softest strike", "soft", count, 1),
  side("highStrike", "region_high_strike", "Hardest strike", "hard", count, 1),
];

export const LEVEL: RegionNumber = {
  fact: "region_gain_db",
  label: "Level",
  short: "level",
  unit: decibels,
  of: ({ region, take }) => region.gain_db - (take?.treatment?.gain_db ?? 0),
  within: [-96, 48],
};

/** What it sounds like, beside what its take does. */
export const SOUND: RegionNumber[] = [
  LEVEL,
  {
    fact: "region_pan",
    label: "Place",
    short: "place",
    unit: share,
    of: ({ region, take }) => region.pan - (take?.treatment?.pan ?? 0),
    within: [-1, 1],
  },
  {
    fact: "region_tune_cents",
    label: "Tuned by",
    short: "tuned",
    unit: cents,
    of: ({ region, take }) => region.tune_cents - (take?.treatment?.tune_cents ?? 0),
    within: [-4800, 4800],
  },
  { fact: "key_follow", label: "Follows keys", short: "follows", unit: share, of: ({ region }) => region.key_follow, within: [-2, 2] },
  {
    fact: "region_offset_frames",
    label: "Starts later by",
    short: "later",
    unit: frames,
    of: ({ region, take }) => Math.max(0, region.start_frame - (take?.treatment?.start_frame ?? 0)),
    within: [0, 1e9],
    whole: true,
  },
];

/** What sets a number of a region; a limit does not pass its opposite. */
export function wishOf(of: Placed, number: RegionNumber, value: number): Wish {
  const inside = number.side ? withSide(of.extent, number.side, value)[number.side] : fitted(number, value);
  return { region: of.name, fact: number.fact, value: inside };
}

/** Sets a number of many at once. */
export function setAtOnce(instrument: number, of: Placed[], number: RegionNumber, how: Schemas["AtOnce"], label: string): void {
  const body = { label, regions: of.map(({ name }) => name), fact: number.fact, how };
  void act(instrument, async () =>
    answer(await api.POST("/api/instruments/{id}/regions", { params: { path: { id: instrument } }, body: body as never })),
  ).catch(sayError);
}
