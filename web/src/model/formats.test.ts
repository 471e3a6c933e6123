import { expect, it } from "vitest";
import { nextHeard } from "./formats";

it("one key goes from the whole through every format and back", () => {
  const heard = [undefined, "sfz", "sound_font2"] as const;
  expect(heard.map((format) => nextHeard(format))).toEqual(["sfz", "sound_font2", undefined]);
});
