// Strands: what starts them, in words, and what stands beside them.
import type { InstrumentView, Schemas } from "../api/client";

export type Strand = Schemas["Strand"];
export type StrandSaid = Schemas["StrandSaid"];
type On = Schemas["On"];

/** A strand with what was said of it. */
export interface PlacedStrand {
  strand: Strand;
  said: StrandSaid;
  regions: number;
}

/** Every strand, in the program's order. */
export function placedStrands(view: InstrumentView): PlacedStrand[] {
  const counts = new Map<number, number>();
  for (const { key } of view.program.regions) counts.set(key.strand, (counts.get(key.strand) ?? 0) + 1);
  return view.program.strands.map((strand, n) => ({ strand, said: view.strands[n]!, regions: counts.get(strand.id) ?? 0 }));
}

/** The strand that can be taken hold of: the one that was chosen, else that of the pass in view. */
export function heldStrand(view: InstrumentView, wanted: number | undefined, pass: number): number | undefined {
  const { strands } = view.program;
  const has = (id: number | undefined) => strands.some((strand) => strand.id === id);
  if (has(wanted)) return wanted;
  const ofPass = view.plan.passes[pass]?.id;
  return has(ofPass) ? ofPass : strands[0]?.id;
}

/** The place of the pass whose takes a strand plays. */
export function passOfStrand(view: InstrumentView, strand: number): number | undefined {
  const region = view.program.regions.find(({ key }) => key.strand === strand);
  const of = region && "cell" in region.key.of ? region.key.of.cell.pass : undefined;
  const place = view.plan.passes.findIndex(({ id }) => id === of);
  return place < 0 ? undefined : place;
}

/** What starts a strand. */
export type Event = "down" | "first" | "legato" | "up" | "pedal_down" | "pedal_up";

export const EVENTS: { value: Event; name: string }[] = [
  { value: "down", name: "key down" },
  { value: "first", name: "first key down" },
  { value: "legato", name: "key down while another is" },
  { value: "up", name: "key up" },
  { value: "pedal_down", name: "pedal down" },
  { value: "pedal_up", name: "pedal up" },
];

/** The sustain pedal, MIDI 1.0. */
const SUSTAIN = 64;

const pedal = (low: number, high: number): On => ({
  enters: { source: { controller: SUSTAIN }, span: { low, high, law: "power" } },
});

export function eventOf(on: On): Event {
  if ("key_up" in on) return "up";
  if ("enters" in on) return on.enters.span.low >= 64 ? "pedal_down" : "pedal_up";
  return on.key_down === "any" ? "down" : on.key_down;
}

/** Another event: of keys that come up, how the sound falls stays. */
export function withEvent(event: Event, before: On): On {
  switch (event) {
    case "down":
      return { key_down: "any" };
    case "first":
    case "legato":
      return { key_down: event };
    case "up":
      return "key_up" in before ? before : { key_up: { pedal_holds: true, fall_db_per_s: 0 } };
    case "pedal_down":
      return pedal(64, 127);
    case "pedal_up":
      return pedal(0, 63);
  }
}

/** Controllers as MIDI 1.0 and General MIDI name them; the others by their numbers. */
const CONTROLLERS: Record<number, string> = {
  1: "mod wheel",
  2: "breath",
  4: "foot pedal",
  7: "volume",
  11: "expression",
  64: "sustain pedal",
  66: "sostenuto pedal",
  67: "soft pedal",
  71: "resonance",
  74: "brightness",
};

export function controllerName(controller: number): string {
  const name = CONTROLLERS[controller];
  return name ? `${name} (${controller})` : `controller ${controller}`;
}

/** Those that are offered first. */
export const OFFERED = [1, 2, 4, 11, 71, 74, 16, 17, 18, 19, 80, 81, 82, 83];

/** Where a strand begins or ends on an axis, as it was said: in the middle of its fade, where it has one. */
export function border({ strand, said }: PlacedStrand, axis: "keys" | "strikes", end: "low" | "high"): number {
  const span = strand.when[axis];
  const before = Math.floor((axis === "keys" ? said.keys_fade : said.strikes_fade) / 2);
  if (end === "low") return span.fade_in ? span.fade_in.from + before : span.low;
  return span.fade_out ? span.fade_out.from + before - 1 : span.high;
}

/** Ends of strands that meet one of a strand on the keys, and go along where it is moved. */
export function meeting(all: PlacedStrand[], of: PlacedStrand, end: "low" | "high"): PlacedStrand[] {
  const at = border(of, "keys", end);
  return all.filter((other) => other !== of && border(other, "keys", end === "low" ? "high" : "low") === (end === "low" ? at - 1 : at + 1));
}
