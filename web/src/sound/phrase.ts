// Phrases of this browser: brought as MIDI files or played, kept, and played again on every instrument and in every step.
import { create } from "zustand";
import { createJSONStorage, persist } from "zustand/middleware";
import { answer, api, type Schemas } from "../api/client";
import { sayError } from "../state/view";
import { player, useSound } from "./player";
import type { Phrase } from "./going";

export type Kept = Schemas["Phrase"];

/** Phrases that are kept; the oldest goes first. */
const MOST_KEPT = 12;
const MOST_BYTES = 16 << 20;
const NOTE_ON = 0x90;

type Event = Kept["events"][number];
const isStrike = ({ bytes }: Event) => (bytes[0]! & 0xf0) === NOTE_ON;
const channelOf = ({ bytes }: Event) => bytes[0]! & 0x0f;

/** What is kept in the browser. */
interface Phrases {
  kept: Kept[];
  /** The one that is played. */
  place: number;
  /** Of its channels; all where there is none. */
  channel: number | undefined;
  goesRound: boolean;
  quarters: number;
  metronome: boolean;
}

/** What goes on now. */
interface Playing {
  plays: boolean;
  /** When keeping what is played began; not yet while it waits for the first key. */
  since: { ms: number | undefined } | undefined;
  /** A sound that is heard beside the phrase. */
  beside: { name: string; sides: [Float32Array, Float32Array] } | undefined;
}

const storage = createJSONStorage<Phrases>(() => ({
  getItem: (name) => localStorage.getItem(name),
  removeItem: (name) => localStorage.removeItem(name),
  setItem: (name, value) => {
    try {
      localStorage.setItem(name, value);
    } catch {
      sayError(new Error("This browser has no room to keep all phrases for the next time. Save them as MIDI files, and forget some."));
    }
  },
}));

export const usePhrases = create<Phrases>()(
  persist((): Phrases => ({ kept: [], place: 0, channel: undefined, goesRound: true, quarters: 120, metronome: false }), {
    name: "ladder-phrases",
    storage,
  }),
);

export const usePlaying = create<Playing>(() => ({ plays: false, since: undefined, beside: undefined }));

/** The one that is played. */
export const chosen = ({ kept, place }: Pick<Phrases, "kept" | "place">): Kept | undefined => kept[place];

/** Channels that have notes, from 0. */
export function channelsOf(phrase: Kept): number[] {
  const all = phrase.events.filter((event) => isStrike(event)).map((event) => channelOf(event));
  return [...new Set(all)].sort((a, b) => a - b);
}

function count(): void {
  const { quarters, metronome, goesRound } = usePhrases.getState();
  const of = chosen(usePhrases.getState())?.quarters_a_minute ?? quarters;
  player.tempo({ quarters, of, metronome, goesRound });
}

/** Another tempo, metronome or way, at once. */
export function set(changed: Partial<Pick<Phrases, "quarters" | "metronome" | "goesRound">>): void {
  usePhrases.setState(changed);
  count();
  // Beats are heard as soon as they are wanted.
  if (changed.metronome) void player.start();
}

export function choose(place: number): void {
  const phrase = usePhrases.getState().kept[place];
  usePhrases.setState({ place, channel: undefined, ...(phrase ? { quarters: phrase.quarters_a_minute } : {}) });
  if (usePlaying.getState().plays) void play();
  else count();
}

export function chooseChannel(channel: number | undefined): void {
  usePhrases.setState({ channel });
  if (usePlaying.getState().plays) void play();
}

function keep(phrase: Kept): void {
  const kept = [...usePhrases.getState().kept, phrase].slice(-MOST_KEPT);
  usePhrases.setState({ kept });
  choose(kept.length - 1);
}

export function forget(): void {
  const { kept, place } = usePhrases.getState();
  stop();
  const left = kept.filter((_, n) => n !== place);
  usePhrases.setState({ kept: left });
  choose(Math.max(0, Math.min(place, left.length - 1)));
}

/** The notes of a phrase, in their order, of one of its channels or of all. */
export function notesOf(phrase: Kept | undefined, channel: number | undefined): { key: number; strike: number }[] {
  const struck = (phrase?.events ?? []).filter((event) => isStrike(event) && event.bytes[2]! > 0);
  return struck
    .filter((event) => channel === undefined || channelOf(event) === channel)
    .map(({ bytes }) => ({ key: bytes[1]!, strike: bytes[2]! }));
}

/** A MIDI file of this computer. */
export async function bring(file: File): Promise<void> {
  if (file.size > MOST_BYTES) throw new Error(`«${file.name}» is longer than a phrase can be (16 MB).`);
  const bytes = await file.arrayBuffer();
  const read = answer(
    await api.POST("/api/phrases/read", {
      // The types have bytes as numbers; they go as they are.
      body: bytes as unknown as number[],
      bodySerializer: (body) => body as unknown as BodyInit,
      headers: { "Content-Type": "application/octet-stream" },
    }),
  );
  keep({ ...read, name: file.name.replace(/\.midi?$/i, "") || read.name });
}

/** Saves the one that is played as a MIDI file. */
export async function save(): Promise<void> {
  const phrase = chosen(usePhrases.getState());
  if (!phrase) return;
  const { quarters } = usePhrases.getState();
  const slower = phrase.quarters_a_minute / quarters;
  const events = phrase.events.map((event) => ({ ...event, at_ms: event.at_ms * slower }));
  const body = { ...phrase, events, quarters_a_minute: quarters, length_ms: phrase.length_ms * slower };
  const { data, error, response } = await api.POST("/api/phrases/write", { body, parseAs: "blob" });
  const blob = answer<Blob>({ data: data, error, response });
  const link = document.createElement("a");
  link.href = URL.createObjectURL(blob);
  link.download = `${phrase.name}.mid`;
  link.click();
  URL.revokeObjectURL(link.href);
}

export async function play(): Promise<void> {
  const { channel } = usePhrases.getState();
  const { beside } = usePlaying.getState();
  const phrase = chosen(usePhrases.getState());
  if (!phrase) return;
  count();
  const wanted = phrase.events.filter((event) => channel === undefined || channelOf(event) === channel);
  const going: Phrase = {
    events: wanted.map(({ at_ms, bytes: [status = 0, first = 0, second = 0] }) => [at_ms, status, first, second]),
    lengthMs: phrase.length_ms,
  };
  usePlaying.setState({ plays: true });
  await player.phrase(going, beside?.sides);
}

export function stop(): void {
  usePlaying.setState({ plays: false });
  void player.phrase(undefined);
}

/** A sound that is heard beside the phrase, from its beginning. */
export async function bringBeside(file: File): Promise<void> {
  const sides = await player.decoded(await file.arrayBuffer());
  usePlaying.setState({ beside: { name: file.name, sides } });
  if (usePlaying.getState().plays) await play();
}

export function leaveBeside(): void {
  usePlaying.setState({ beside: undefined });
  if (usePlaying.getState().plays) void play();
}

/** What is played from now on is kept: from the first key on, or, with the metronome, from now on, where a beat falls. */
export function listen(): void {
  stop();
  const { metronome, quarters } = usePhrases.getState();
  const events: Kept["events"] = [];
  usePlaying.setState({ since: { ms: metronome ? performance.now() : undefined } });
  player.onPlayed = (status, first, second) => {
    const { since } = usePlaying.getState();
    if (!since) return;
    const now = performance.now();
    if (since.ms === undefined && (status & 0xf0) !== NOTE_ON) return;
    const began = since.ms ?? now;
    if (since.ms === undefined) usePlaying.setState({ since: { ms: began } });
    events.push({ at_ms: now - began, bytes: [status, first, second] });
  };
  finish = () => {
    const began = usePlaying.getState().since?.ms;
    const quarterMs = 60_000 / quarters;
    const took = began === undefined ? 0 : performance.now() - began;
    const length_ms = metronome ? Math.ceil(took / quarterMs) * quarterMs : took;
    if (!events.some((event) => isStrike(event))) {
      sayError(new Error("No key was played, so there is nothing to keep."));
      return;
    }
    const nth = usePhrases.getState().kept.length + 1;
    keep({ name: `played ${nth}`, quarters_a_minute: quarters, length_ms, events });
  };
}

let finish = () => {};

/** What was played becomes a phrase. */
export function keepPlayed(): void {
  player.onPlayed = undefined;
  finish();
  usePlaying.setState({ since: undefined });
}

// One that does not go round is over when the engine says so.
useSound.subscribe(({ meter }, before) => {
  if (before.meter.phrase && !meter.phrase && !usePhrases.getState().goesRound) usePlaying.setState({ plays: false });
});

// The tempo is that of the last time.
count();
