import { describe, expect, it } from "vitest";
import { bitsOf, FIRST_CHOICES, ratesOf, withKind, writingOf } from "./writing";

describe("as what an instrument is written", () => {
  it("asks for what was chosen", () => {
    const writing = writingOf({ ...FIRST_CHOICES, bits: "16_shaped", rate: "44100", sides: "one", turns: true });
    expect(writing).toMatchObject({ format: "sfz", bits: 16, dither: "shaped", rate_hz: 44100, one_side: true, turns_beside: false });
    expect(writingOf({ ...FIRST_CHOICES, kind: "sound_font2", turns: true }).turns_beside).toBe(true);
    expect(writingOf(FIRST_CHOICES).rate_hz).toBeUndefined();
  });

  it("takes the nearest of what another format has not", () => {
    const floats = { ...FIRST_CHOICES, bits: "32", rate: "96000" } as const;
    expect(withKind(floats, "sound_font2")).toMatchObject({ bits: "24", rate: "48000" });
    expect(withKind(floats, "audio")).toMatchObject({ bits: "32", rate: "96000" });
    expect(bitsOf("sfz_flac").map(({ value }) => value)).not.toContain("32");
    expect(ratesOf("sound_font2").map(({ value }) => value)).not.toContain("96000");
  });
});
