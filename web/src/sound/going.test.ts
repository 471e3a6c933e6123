import { describe, expect, it } from "vitest";
import { Going, Metronome, type Phrase } from "./going";

const phrase: Phrase = {
  events: [
    [0, 0x90, 60, 100],
    [100, 0xb0, 64, 127],
    [250, 0x80, 60, 30],
    [400, 0x90, 64, 90],
  ],
  lengthMs: 500,
};

describe("a phrase", () => {
  it("gives every message once, in the stretch it falls into", () => {
    const going = new Going(phrase, false);
    const all = Array.from({ length: 100 }, () => going.goOn(3)).flat();
    expect(all).toEqual(phrase.events.slice(0, 3));
    expect(going.keys).toEqual([]);
    expect(going.at).toBeCloseTo(300);
  });

  it("lets go at its end what it holds, and is over", () => {
    const going = new Going(phrase, false);
    going.goOn(450);
    expect(going.keys).toEqual([64]);
    expect(going.goOn(100)).toEqual([
      [450, 0x80, 64, 64],
      [450, 0xb0, 64, 0],
    ]);
    expect(going.ended).toBe(true);
    expect(going.goOn(1_000)).toEqual([]);
  });

  it("goes round without a gap, also more than once at a time", () => {
    const going = new Going(phrase, true);
    const strikes = going.goOn(1_200).filter(([, status]) => status === 0x90);
    expect(strikes.map(([, , key]) => key)).toEqual([60, 64, 60, 64, 60]);
    expect(going.rounds).toBe(3);
    expect(going.at).toBeCloseTo(200);
  });

  it("of no length does not go round for ever", () => {
    const going = new Going({ events: [[0, 0x90, 60, 100]], lengthMs: 0 }, true);
    going.goOn(10);
    expect(going.ended).toBe(true);
  });
});

it("a beat sounds and dies away", () => {
  const metronome = new Metronome(48_000);
  metronome.strike();
  const peaks = Array.from({ length: 20 }, () => {
    const side = new Float32Array(128);
    metronome.add(side, new Float32Array(128));
    return Math.max(...side);
  });
  expect(peaks[0]).toBeGreaterThan(0.1);
  expect(peaks[19]).toBe(0);
});
