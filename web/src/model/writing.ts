// As what an instrument is written: the choices of a hand, and what is asked for by them.
import type { Schemas } from "../api/client";
import type { Format } from "./formats";

export type Kind = "sfz" | "sfz_flac" | "audio" | "sound_font2" | "page";
export type Bits = "16" | "16_shaped" | "24" | "32";
export type Rate = "own" | "22050" | "32000" | "44100" | "48000" | "96000";
export type Sides = "own" | "one";

export interface Choices {
  kind: Kind;
  bits: Bits;
  rate: Rate;
  sides: Sides;
  /** Presets beside, of a SoundFont. */
  turns: boolean;
  keyUp: boolean;
  /** Kept values beside: presets of a SoundFont, or SFZ on the same audio. */
  kept: boolean;
  /** Of audio alone: whole, as it was recorded. */
  raw: boolean;
  /** A file to download, or a folder on the server's disk. */
  into: "file" | "folder";
}

export const FIRST_CHOICES: Choices = {
  kind: "sfz",
  bits: "24",
  rate: "own",
  sides: "own",
  turns: false,
  keyUp: false,
  kept: false,
  raw: false,
  into: "file",
};

export const KINDS: { value: Kind; name: string }[] = [
  { value: "sfz", name: "SFZ with WAV files" },
  { value: "sfz_flac", name: "SFZ with FLAC files" },
  { value: "audio", name: "WAV files alone, loops inside" },
  { value: "sound_font2", name: "SoundFont 2" },
  { value: "page", name: "Page that plays" },
];

const BITS: { value: Bits; name: string }[] = [
  { value: "16", name: "16 bit, dithered" },
  { value: "16_shaped", name: "16 bit, shaped dither" },
  { value: "24", name: "24 bit" },
  { value: "32", name: "32 bit float" },
];

const RATES: { value: Rate; name: string }[] = [
  { value: "own", name: "as recorded" },
  { value: "22050", name: "22.05 kHz" },
  { value: "32000", name: "32 kHz" },
  { value: "44100", name: "44.1 kHz" },
  { value: "48000", name: "48 kHz" },
  { value: "96000", name: "96 kHz" },
];

export const SIDES: { value: Sides; name: string }[] = [
  { value: "own", name: "as recorded" },
  { value: "one", name: "mono" },
];

const holdsFloats = (kind: Kind) => kind === "sfz" || kind === "audio";

/** Widths that a format has. */
export const bitsOf = (kind: Kind) => BITS.filter(({ value }) => value !== "32" || holdsFloats(kind));

/** Rates that a format has: a SoundFont none above 50 kHz. */
export const ratesOf = (kind: Kind) => RATES.filter(({ value }) => value !== "96000" || kind !== "sound_font2");

/** The choices, where the format is another: what it has not becomes the nearest that it has. */
export function withKind(choices: Choices, kind: Kind): Choices {
  const has = <T>(options: { value: T }[], value: T) => options.some((option) => option.value === value);
  return {
    ...choices,
    kind,
    bits: has(bitsOf(kind), choices.bits) ? choices.bits : "24",
    rate: has(ratesOf(kind), choices.rate) ? choices.rate : "48000",
  };
}

/** The format that a kind is of. */
export const formatOf = (kind: Kind): Format => (kind === "sound_font2" || kind === "page" ? kind : "sfz");

/** What is asked for. */
export function writingOf(choices: Choices): Schemas["Writing"] {
  const { kind, bits, rate, sides } = choices;
  const isSoundFont = kind === "sound_font2";
  return {
    format: formatOf(kind),
    bits: bits === "16_shaped" ? 16 : Number(bits),
    flac: kind === "sfz_flac",
    alone: kind === "audio",
    rate_hz: rate === "own" ? undefined : Number(rate),
    one_side: sides === "one",
    dither: bits === "16_shaped" ? "shaped" : "flat",
    turns_beside: isSoundFont && choices.turns,
    key_up_beside: isSoundFont && choices.keyUp,
    kept_beside: choices.kept,
  };
}
