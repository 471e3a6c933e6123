import { describe, expect, it } from "vitest";
import { border, controllerName, EVENTS, eventOf, meeting, type PlacedStrand, withEvent } from "./strands";

describe("what starts a strand", () => {
  it("is read as it was set", () => {
    for (const { value } of EVENTS) expect(eventOf(withEvent(value, { key_down: "any" }))).toBe(value);
  });
  it("keeps how a key-up sound falls", () => {
    const up = { key_up: { pedal_holds: false, fall_db_per_s: 6 } };
    expect(withEvent("up", up)).toEqual(up);
  });
});

it("controllers have their names, and those without one their number", () => {
  expect(controllerName(1)).toBe("mod wheel (1)");
  expect(controllerName(20)).toBe("controller 20");
});

const placed = (low: number, high: number, fade = 0): PlacedStrand =>
  ({
    strand: {
      when: {
        keys: {
          low: fade && low > 0 ? low - Math.floor(fade / 2) + 1 : low,
          high: fade && high < 127 ? high + Math.ceil(fade / 2) : high,
          fade_in: fade && low > 0 ? { from: low - Math.floor(fade / 2), to: low + Math.ceil(fade / 2) } : null,
          fade_out: fade && high < 127 ? { from: high + 1 - Math.floor(fade / 2), to: high + 1 + Math.ceil(fade / 2) } : null,
        },
      },
    },
    said: { keys_fade: fade },
  }) as unknown as PlacedStrand;

describe("where strands meet", () => {
  it("is where it was said, with or without a fade", () => {
    for (const fade of [0, 2, 5, 8]) {
      expect(border(placed(48, 71, fade), "keys", "low")).toBe(48);
      expect(border(placed(48, 71, fade), "keys", "high")).toBe(71);
    }
  });
  it("takes the neighbour along", () => {
    const [left, right] = [placed(0, 59, 4), placed(60, 127, 4)];
    expect(meeting([left, right], left, "high")).toEqual([right]);
    expect(meeting([left, right], left, "low")).toEqual([]);
  });
});
