// What is said of strands.
import { answer, api, type Fact, type Schemas } from "../api/client";
import { cents, decibels, key, semitones, share, count, type Unit } from "../model/units";
import type { Ranged } from "../model/ranges";
import { border, type PlacedStrand } from "../model/strands";
import { act, change } from "../state/edits";
import { sayError } from "../state/view";

/** A number of a strand. */
export interface StrandNumber extends Ranged {
  fact: Fact;
  label: string;
  unit: Unit;
  of: (placed: PlacedStrand) => number;
}

/** What a strand sounds like. */
export const SOUND: StrandNumber[] = [
  { fact: "strand_gain_db", label: "Level", unit: decibels, of: ({ strand }) => strand.gain_db, within: [-96, 48] },
  { fact: "strand_pan", label: "Place", unit: share, of: ({ strand }) => strand.pan ?? 0, within: [-1, 1] },
  {
    fact: "strand_transpose_keys",
    label: "Transposed",
    unit: semitones,
    of: ({ strand }) => strand.transpose_keys,
    within: [-48, 48],
    whole: true,
  },
  { fact: "strand_tune_cents", label: "Tuned by", unit: cents, of: ({ strand }) => strand.tune_cents ?? 0, within: [-1200, 1200] },
];

/** What it sounds on. */
export const LIMITS: StrandNumber[] = [
  { fact: "strand_low_key", label: "Lowest key", unit: key, of: (of) => border(of, "keys", "low"), within: [0, 127], whole: true },
  { fact: "strand_high_key", label: "Highest key", unit: key, of: (of) => border(of, "keys", "high"), within: [0, 127], whole: true },
  {
    fact: "strand_low_strike",
    label: "Softest strike",
    unit: count,
    of: (of) => border(of, "strikes", "low"),
    within: [1, 127],
    whole: true,
  },
  {
    fact: "strand_high_strike",
    label: "Hardest strike",
    unit: count,
    of: (of) => border(of, "strikes", "high"),
    within: [1, 127],
    whole: true,
  },
];

/** Over how many steps it comes and goes at its limits. */
export const FADES: StrandNumber[] = [
  { fact: "strand_keys_fade", label: "Keys cross over", unit: semitones, of: ({ said }) => said.keys_fade, within: [0, 126], whole: true },
  {
    fact: "strand_strikes_fade",
    label: "Strikes cross over",
    unit: count,
    of: ({ said }) => said.strikes_fade,
    within: [0, 126],
    whole: true,
  },
];

/** How far the bend reaches. */
export const BENDS: StrandNumber[] = [
  {
    fact: "strand_bend_up",
    label: "Bend up",
    unit: semitones,
    of: ({ said }) => said.bend.up,
    within: [0, 48],
    whole: true,
  },
  {
    fact: "strand_bend_down",
    label: "Bend down",
    unit: semitones,
    of: ({ said }) => said.bend.down,
    within: [0, 48],
    whole: true,
  },
];

/** How long it fades where it is cut off. */
export const CUT_FADE: StrandNumber = {
  fact: "strand_cut_fade_ms",
  label: "Fading within",
  unit: { ...count, show: (v) => `${v} ms`, step: 10, fine: 1 },
  of: ({ strand }) => strand.cut.fade_ms,
  within: [0, 20_000],
};

/** Says something of a strand; `undefined` gives it back to the automatic value. The label is what Undo undoes. */
export function sayOf(instrument: number, { strand }: PlacedStrand, fact: Fact, value: unknown, label: string): void {
  void change(instrument, label, [{ strand: strand.id, fact, value }]).catch(sayError);
}

/** An act on several facts of strands at once. */
export function actOn(instrument: number, body: Schemas["StrandAct"]): void {
  void act(instrument, async () =>
    answer(await api.POST("/api/instruments/{id}/strands", { params: { path: { id: instrument } }, body })),
  ).catch(sayError);
}
