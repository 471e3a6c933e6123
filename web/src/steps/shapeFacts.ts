// What is said of the shapes of strands.
import type { Fact } from "../api/client";
import type { Ranged } from "../model/ranges";
import type { Bends, Flat, Loudness } from "../model/shape";
import { decibels, frequency, share, time, type Unit } from "../model/units";

/** A number of loudness. */
export interface LoudnessNumber extends Ranged {
  fact: Fact;
  /** Where it stands in a shape. */
  of: keyof Flat<Loudness>;
  label: string;
  /** The name of the reason for its first value. */
  about?: string;
  unit: Unit;
  says?: string;
}

/** Of a number that is not the same in all that is shaped. */
export const THEY_DIFFER =
  "They differ: this is the first one's. Typed as it is to be, it is the same for all; typed as «by 20», or moved, each changes by so much";

const TO_SILENCE = "time to fall by 100 dB, as both formats count it";

export const COURSE: LoudnessNumber[] = [
  { fact: "shape_delay_ms", of: "delay_ms", label: "Waits", unit: time, within: [0, 17_900] },
  { fact: "shape_attack_ms", of: "attack_ms", label: "Attack", about: "attack", unit: time, within: [0, 100_000] },
  { fact: "shape_hold_ms", of: "hold_ms", label: "Stays full", unit: time, within: [0, 17_900] },
  { fact: "shape_decay_ms", of: "decay_ms", label: "Decay", unit: time, within: [0, 100_000], says: TO_SILENCE },
  { fact: "shape_sustain_db", of: "sustain_db", label: "Held at", unit: decibels, within: [-96, 0] },
  { fact: "shape_release_ms", of: "release_ms", label: "Release", about: "release", unit: time, within: [0, 100_000], says: TO_SILENCE },
];

const BENDS_SAY = "0 % is straight; below it most of the way comes early, above it late";
const bend = (of: keyof Bends, fact: Fact, label: string): LoudnessNumber => ({
  fact,
  of,
  label,
  unit: share,
  within: [-1, 1],
  says: BENDS_SAY,
});

export const PARTS_BEND: LoudnessNumber[] = [
  bend("attack_bend", "shape_attack_bend", "Attack bends"),
  bend("decay_bend", "shape_decay_bend", "Decay bends"),
  bend("release_bend", "shape_release_bend", "Release bends"),
];

export const BY_STRIKE: LoudnessNumber = {
  fact: "shape_strike_to_level",
  of: "velocity_to_level",
  label: "Strike",
  about: "strike",
  unit: share,
  within: [0, 1],
};

/** A number of the filter. */
export interface FilterNumber extends Ranged {
  fact: Fact;
  of: "cutoff_hz" | "key_follow" | "resonance_db";
  label: string;
  unit: Unit;
  says?: string;
}

export const FILTER: FilterNumber[] = [
  { fact: "filter_cutoff_hz", of: "cutoff_hz", label: "Cutoff", unit: frequency, within: [20, 20_000], says: "3 dB down there" },
  { fact: "filter_resonance_db", of: "resonance_db", label: "Resonance", unit: decibels, within: [0, 40], says: "raised there by so much" },
  {
    fact: "filter_key_follow",
    of: "key_follow",
    label: "Follows the key",
    unit: share,
    within: [-2, 2],
    says: "from middle C on; at 100 % an octave for an octave",
  },
];

/** A part of a course of something else than loudness. */
export interface CourseNumber extends Ranged {
  of: "delay_ms" | "attack_ms" | "hold_ms" | "decay_ms" | "sustain" | "release_ms" | keyof Bends;
  label: string;
  unit: Unit;
}

export const DRIVEN_COURSE: CourseNumber[] = [
  { of: "delay_ms", label: "Waits", unit: time, within: [0, 17_900] },
  { of: "attack_ms", label: "Attack", unit: time, within: [0, 100_000] },
  { of: "hold_ms", label: "Stays", unit: time, within: [0, 17_900] },
  { of: "decay_ms", label: "Decay", unit: time, within: [0, 100_000] },
  { of: "sustain", label: "Held at", unit: share, within: [0, 1] },
  { of: "release_ms", label: "Release", unit: time, within: [0, 100_000] },
  ...PARTS_BEND.map(({ of, label, unit, within }) => ({ of: of as keyof Bends, label, unit, within })),
];
