// The formats that an instrument is given away in.
import type { Schemas } from "../api/client";

export type Format = Schemas["FormatName"];

/** As they are told beside a verb. */
export const FORMATS: { value: Format; name: string }[] = [
  { value: "sfz", name: "SFZ" },
  { value: "sound_font2", name: "SoundFont" },
];

/** What keys play, one after the other: the whole, then as each format will hold it. */
export function nextHeard(format: Format | undefined): Format | undefined {
  return FORMATS[FORMATS.findIndex(({ value }) => value === format) + 1]?.value;
}
