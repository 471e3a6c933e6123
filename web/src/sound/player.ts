// The ladder as it is heard: our engine in an AudioWorklet.
import { useSettings } from "../state/settings";
import { sayError, useView } from "../state/view";
import { create } from "zustand";
import { findMidi, hearMidi, useDevices, whenMidiGoes } from "../devices/devices";
import type { Schemas, TakeView } from "../api/client";
import { hasValue } from "../model/panel";
import { takeId } from "../model/regions";
import type { Home, Playable } from "./home";
import type { LoadWish } from "./loading";
import type { Phrase } from "./going";
import type { Meter, Moved, ShapeName, Tempo, ToEngine } from "./worklet";
import workletUrl from "./worklet.ts?worker&url";

/** As the engine counts them (`engine::Setting::ALL`). */
const SETTINGS = {
  start: 0,
  end: 1,
  gain: 2,
  recording_cents: 3,
  tune_cents: 4,
  pan: 5,
  loop_start: 6,
  loop_end: 7,
  loop_crossfade: 8,
} as const;

/** As the engine counts them (`engine::ShapeSetting::ALL`). */
const SHAPE_SETTINGS = {
  delay_ms: 0,
  attack_ms: 1,
  hold_ms: 2,
  decay_ms: 3,
  sustain_db: 4,
  release_ms: 5,
  velocity_to_level: 6,
  cutoff_hz: 7,
  resonance_db: 8,
  key_follow: 9,
  route_amount: 10,
  movement_hz: 11,
  movement_fade_ms: 12,
  course_delay_ms: 13,
  course_attack_ms: 14,
  course_hold_ms: 15,
  course_decay_ms: 16,
  course_sustain: 17,
  course_release_ms: 18,
  attack_bend: 19,
  decay_bend: 20,
  release_bend: 21,
  course_attack_bend: 22,
  course_decay_bend: 23,
  course_release_bend: 24,
} as const;

export type ShapeSetting = keyof typeof SHAPE_SETTINGS;

/** How fast a key comes up where nobody says (`program::KEY_UP_SPEED`). */
const KEY_UP_SPEED = 64;

/** A program comes to the engine in messages of at most so many bytes. */
const PIECE_BYTES = 1 << 16;

interface Sound {
  meter: Meter;
  rate: number;
  /** Samples whose head has arrived, of how many. */
  heads: number;
  of: number;
  held: Set<number>;
  /** Where controllers stand that were moved here. */
  controllers: Record<number, number>;
  /** Where controls of the panel stand that were moved, 0 to 1. */
  controls: Record<number, number>;
  /** Where the bend and the pressure on all keys stand. */
  bend: number;
  pressure: number;
  /** How fast keys come up that say nothing of it. */
  keyUpSpeed: number;
  /** What was struck last. */
  struck: { key: number; velocity: number } | undefined;
  /** Whether MIDI keyboards are heard. */
  midi: boolean;
}

export const useSound = create<Sound>(() => ({
  meter: { peak: 0, sides: [0, 0], voices: 0, sounding: [], ranOut: 0, short: [], full: 0 },
  controllers: {},
  controls: {},
  bend: 8192,
  pressure: 0,
  keyUpSpeed: KEY_UP_SPEED,
  rate: 0,
  heads: 0,
  of: 0,
  held: new Set(),
  struck: undefined,
  midi: false,
}));

/** A sound that goes round with others: which stretch of it, in its seconds, how much faster, and how loud. */
interface Together {
  buffer: AudioBuffer;
  from: number;
  to: number;
  pace: number;
  gain: number;
}

class Player {
  private context: AudioContext | undefined;
  private node: AudioWorkletNode | undefined;
  /** All that is heard goes through it. */
  private out: GainNode | undefined;
  private loader: Worker | undefined;
  private starting: Promise<void> | undefined;
  private view: Playable | undefined;
  private home: Home | undefined;
  private tone: OscillatorNode | undefined;

  /** Where instruments live: said once, before anything is played. */
  livesAt(home: Home): void {
    this.home = home;
    home.watch?.(() => {
      if (this.node && this.view) void this.bring(this.view).catch(sayError);
    });
  }

  /** The engine, compiled: asked for ahead it is there when the first key goes down. */
  compiled(): Promise<WebAssembly.Module> {
    const fetched = async () => {
      const response = await fetch(this.home?.engine ?? "");
      if (!response.ok) throw new Error("The sound engine cannot be fetched just now; try again in a moment.");
      // Not as a stream: some servers call it something else than WebAssembly.
      return WebAssembly.compile(await response.arrayBuffer());
    };
    this.module ??= fetched();
    this.module.catch(() => (this.module = undefined));
    return this.module;
  }

  private module: Promise<WebAssembly.Module> | undefined;

  /** The program of an instrument as the engine reads it. */
  async programOf(id: number): Promise<ArrayBuffer | undefined> {
    return this.home?.programOf(id);
  }

  /** Browsers let sound begin with a gesture only: called by the first key, click or strike. */
  async start(): Promise<void> {
    this.starting ??= this.open();
    try {
      await this.starting;
    } catch (error) {
      // The next gesture tries again.
      this.starting = undefined;
      throw error;
    }
    if (this.context?.state === "suspended") await this.context.resume();
  }

  private async open(): Promise<void> {
    const context = new AudioContext({ latencyHint: "interactive" });
    this.context = context;
    this.out = new GainNode(context);
    this.out.connect(context.destination);
    this.setOut();
    useSettings.subscribe(() => this.setOut());
    if (!this.home) throw new Error("There is nothing to play yet.");
    const [module] = await Promise.all([this.compiled(), context.audioWorklet.addModule(workletUrl)]);
    const node = new AudioWorkletNode(context, "ladder-engine", {
      numberOfInputs: 0,
      outputChannelCount: [2],
      processorOptions: { module, budgetBytes: useSettings.getState().memoryMb * 2 ** 20 },
    });
    node.onprocessorerror = () =>
      sayError(new Error("The sound engine broke down in this browser. Load the page again: everything is kept."));
    node.port.onmessage = (event: MessageEvent<Meter>) => {
      const { meter } = useSound.getState();
      const kept = (now: number[], before: number[]) => (now.join() === before.join() ? before : now);
      const { sounding, short } = event.data;
      useSound.setState({ meter: { ...event.data, sounding: kept(sounding, meter.sounding), short: kept(short, meter.short) } });
    };
    node.connect(this.out);
    this.node = node;
    this.loader = this.home.loader();
    this.loader.onmessage = (event: MessageEvent<{ heads?: number; of?: number }>) => {
      if (event.data.heads !== undefined) useSound.setState({ heads: event.data.heads, of: event.data.of ?? 0 });
    };
    const channel = new MessageChannel();
    this.loader.postMessage({ port: channel.port1 }, [channel.port1]);
    node.port.postMessage({ type: "port", port: channel.port2 } satisfies ToEngine, [channel.port2]);
    useSound.setState({ rate: context.sampleRate });
    const { controllers, controls, bend, pressure } = useSound.getState();
    for (const [controller, value] of Object.entries(controllers)) this.controller(Number(controller), value);
    for (const [id, value] of Object.entries(controls)) this.control(Number(id), value);
    this.bend(bend);
    this.pressure(pressure);
    if (this.counts) this.tempo(this.counts);
    this.listenTo(this.alone);
    if (this.view) await this.bring(this.view);
  }

  /** Volume and output, as the settings have them. */
  private setOut(): void {
    const { volumeDb, output } = useSettings.getState();
    if (!this.context || !this.out) return;
    this.out.gain.setTargetAtTime(10 ** (volumeDb / 20), this.context.currentTime, 0.01);
    const context = this.context as AudioContext & { sinkId?: string; setSinkId?: (id: string) => Promise<void> };
    if (context.setSinkId && (context.sinkId ?? "") !== output)
      void context
        .setSinkId(output)
        .catch(() => sayError(new Error("That output is not there: what is played goes to the browser's own.")));
  }

  /** What is to be heard; before the first gesture it is only remembered. */
  async show(view: Playable): Promise<void> {
    // What was moved of another instrument is no control of this.
    if (this.view?.id !== view.id) {
      useSound.setState({ controls: {} });
      this.node?.port.postMessage({ type: "controls to first" } satisfies ToEngine);
    }
    this.view = view;
    if (this.node) await this.bring(view);
  }

  private async bring(view: Playable): Promise<void> {
    const brought = await this.home?.bring(view);
    // A newer one may have come first.
    if (!brought || !this.node || this.view !== view) return;
    const { bytes, samples } = brought;
    for (let at = 0; at < bytes.byteLength; at += PIECE_BYTES) {
      const data = bytes.slice(at, at + PIECE_BYTES);
      const length = at === 0 ? { length: bytes.byteLength } : {};
      this.node.port.postMessage({ type: "program", ...length, data } satisfies ToEngine, [data]);
    }
    this.loader?.postMessage({ load: { samples } } satisfies LoadWish);
  }

  /** Told what is played, as MIDI has it: who keeps it. */
  onPlayed: ((status: number, first: number, second: number) => void) | undefined;

  private counts: Tempo | undefined;

  /** How fast it is counted and played. */
  tempo(tempo: Tempo): void {
    this.counts = tempo;
    this.node?.port.postMessage({ type: "tempo", tempo } satisfies ToEngine);
  }

  /** Plays a phrase from its beginning, with a sound beside it; `undefined` ends it. */
  async phrase(phrase: Phrase | undefined, beside?: [Float32Array, Float32Array]): Promise<void> {
    if (phrase) await this.start();
    this.node?.port.postMessage({ type: "phrase", phrase, ...(beside ? { beside } : {}) } satisfies ToEngine);
  }

  /** A file of sound, both sides at the rate that is played at. */
  async decoded(bytes: ArrayBuffer): Promise<[Float32Array, Float32Array]> {
    await this.start();
    if (!this.context) throw new Error("There is no sound to play with yet.");
    const sound = await this.context.decodeAudioData(bytes).catch(() => {
      throw new Error("This browser cannot read that audio file.");
    });
    return [sound.getChannelData(0), sound.getChannelData(sound.numberOfChannels > 1 ? 1 : 0)];
  }

  async on(key: number, velocity: number): Promise<void> {
    if (key < 0 || key > 127) return;
    this.onPlayed?.(0x90, key, velocity);
    useSound.setState((state) => ({ held: new Set(state.held).add(key), struck: { key, velocity } }));
    await this.start();
    if (!useSound.getState().held.has(key)) return;
    this.node?.port.postMessage({ type: "on", key, velocity } satisfies ToEngine);
  }

  /** A key comes up, as fast as its keyboard says, else as the hand on the screen is set. */
  off(key: number, speed = useSound.getState().keyUpSpeed): void {
    this.onPlayed?.(0x80, key, speed);
    useSound.setState((state) => {
      const held = new Set(state.held);
      held.delete(key);
      return { held };
    });
    this.node?.port.postMessage({ type: "off", key, speed } satisfies ToEngine);
  }

  /** The bend is moved, 0 to 16,383, in the middle at 8,192. */
  bend(value: number): void {
    this.onPlayed?.(0xe0, value % 128, Math.floor(value / 128));
    useSound.setState({ bend: value });
    this.node?.port.postMessage({ type: "bend", value } satisfies ToEngine);
  }

  /** All keys are pressed so far, 0 to 127. */
  pressure(value: number): void {
    this.onPlayed?.(0xd0, value, 0);
    useSound.setState({ pressure: value });
    this.node?.port.postMessage({ type: "pressure", value } satisfies ToEngine);
  }

  /** A key is pressed so far, 0 to 127. */
  keyPressure(key: number, value: number): void {
    this.onPlayed?.(0xa0, key, value);
    this.node?.port.postMessage({ type: "keyPressure", key, value } satisfies ToEngine);
  }

  /** A number of shapes that is being dragged is heard before it is kept. */
  shape(shapes: ShapeName[], setting: ShapeSetting, value: number, of = 0): void {
    for (const shape of shapes)
      this.node?.port.postMessage({ type: "shape", shape, setting: SHAPE_SETTINGS[setting], of, value } satisfies ToEngine);
  }

  /** A number of an effect that is being dragged is heard before it is kept: its level, or a setting by its place. */
  effect(id: number, of: "level" | number, value: number): void {
    const setting = of === "level" ? 1 : 2 + of;
    this.node?.port.postMessage({ type: "effect", id, setting, value } satisfies ToEngine);
  }

  /** A controller is moved, 0 to 127. */
  controller(controller: number, value: number): void {
    this.onPlayed?.(0xb0, controller, value);
    const moved = (this.view?.panel.parts ?? []).filter((part) => part.controller === controller && hasValue(part.kind));
    useSound.setState(({ controllers, controls }) => ({
      controllers: { ...controllers, [controller]: value },
      controls: { ...controls, ...Object.fromEntries(moved.map(({ id }) => [id, value / 127])) },
    }));
    this.node?.port.postMessage({ type: "controller", controller, value } satisfies ToEngine);
  }

  /** A control of the panel is moved, 0 to 1, and its controller with it. */
  control(id: number, value: number): void {
    const controller = this.view?.panel.parts.find((part) => part.id === id)?.controller;
    useSound.setState(({ controllers, controls }) => ({
      controls: { ...controls, [id]: value },
      ...(controller == null ? {} : { controllers: { ...controllers, [controller]: Math.round(127 * value) } }),
    }));
    this.node?.port.postMessage({ type: "control", id, value } satisfies ToEngine);
  }

  /** Every control stands as it is kept under a name; the others where they are. */
  recall(preset: Schemas["Preset"]): void {
    for (const { control, value } of preset.values) this.control(control, value);
  }

  /** A MIDI program change, 1 to 128: another instrument, where there are several, else the set of values that has its number. */
  program(number: number): void {
    if (this.home?.program?.(number, useSound.getState().controllers[0] ?? 0)) return;
    const preset = this.view?.panel.presets.find(({ program }) => program === number);
    if (preset) this.recall(preset);
  }

  /** Only these strands, or regions of them, are heard; all where there are none. */
  listenTo(of: [strand: number, region: number][]): void {
    this.alone = of;
    this.node?.port.postMessage({ type: "alone", of } satisfies ToEngine);
  }

  private alone: [strand: number, region: number][] = [];

  /** A number that is being dragged is heard before it is kept: on every region of that take. */
  drag(take: number, setting: keyof typeof SETTINGS, value: number): void {
    for (const sample of this.view?.program.samples ?? [])
      if (takeId(sample.source) === take)
        this.node?.port.postMessage({ type: "set", sample: sample.id, setting: SETTINGS[setting], value } satisfies ToEngine);
  }

  /** Regions that are dragged are struck where they are, before they are kept. */
  place(of: Moved[]): void {
    // What a format leaves out is not brought back by a hand on it.
    if (of.length > 0 && !useView.getState().heardAs && !useView.getState().heardEdition)
      this.node?.port.postMessage({ type: "place", of } satisfies ToEngine);
  }

  quiet(): void {
    useSound.setState({ held: new Set() });
    this.node?.port.postMessage({ type: "quiet" } satisfies ToEngine);
  }

  private heard: AudioBufferSourceNode | undefined;

  /** A sound of the server, as a browser plays it; `undefined` where it is empty. */
  async fetched(sound: { url: string; rate: number; channels: number }): Promise<AudioBuffer | undefined> {
    const response = await fetch(sound.url);
    if (!response.ok) throw new Error("The sound cannot be read just now.");
    const samples = new Float32Array(await response.arrayBuffer());
    const length = samples.length / sound.channels;
    if (length < 1) return undefined;
    const buffer = new AudioBuffer({ length, numberOfChannels: sound.channels, sampleRate: sound.rate });
    for (let c = 0; c < sound.channels; c++) {
      const side = buffer.getChannelData(c);
      for (let n = 0; n < length; n++) side[n] = samples[n * sound.channels + c]!;
    }
    return buffer;
  }

  private beside: { stop: () => void; gains: GainNode[] } | undefined;

  /** Several sounds at once, round and round over a stretch of each, one of which is heard; `undefined` ends them. Seconds of each sound. */
  async together(all: Together[] | undefined, heard: number): Promise<void> {
    this.beside?.stop();
    this.beside = undefined;
    if (!all) return;
    await this.start();
    const { context } = this;
    if (!context) throw new Error("There is no sound to play with yet.");
    const at = context.currentTime + 0.03;
    const gains: GainNode[] = [];
    const sources = all.map(({ buffer, from, to, pace, gain }, n) => {
      const level = new GainNode(context, { gain });
      const which = new GainNode(context, { gain: n === heard ? 1 : 0 });
      const source = new AudioBufferSourceNode(context, { buffer, loop: true, loopStart: from, loopEnd: to, playbackRate: pace });
      source
        .connect(level)
        .connect(which)
        .connect(this.out ?? context.destination);
      source.start(at, from);
      gains.push(which);
      return source;
    });
    this.beside = { stop: () => sources.forEach((source) => source.stop()), gains };
  }

  /** Which of them is heard, from now on, in the same place. */
  other(heard: number): void {
    const { context } = this;
    if (!context) return;
    this.beside?.gains.forEach(({ gain }, n) => gain.setTargetAtTime(n === heard ? 1 : 0, context.currentTime, 0.006));
  }

  /** A stretch of raw audio, once; another one, or `undefined`, ends it. */
  async hear(sound: { url: string; rate: number; channels: number } | undefined): Promise<void> {
    this.heard?.stop();
    this.heard = undefined;
    if (!sound) return;
    await this.start();
    const buffer = await this.fetched(sound);
    if (!buffer || !this.context) return;
    const source = new AudioBufferSourceNode(this.context, { buffer });
    source.connect(this.out ?? this.context.destination);
    source.start();
    this.heard = source;
  }

  /** A take as it was recorded, as it is cleaned, or what cleaning takes away from it; or one stage of it alone: without that stage, and what it takes. */
  hearTake(take: TakeView, version: "raw" | "cleaned" | "away" = "raw", stage?: Schemas["Stage"]): Promise<void> {
    const mono = ["sum", "left", "right"].includes(take.treatment?.cleaning?.channels?.sides ?? "both");
    // Several mics: the first is heard. What is taken away from a changed number of sides is of their sum.
    const of = Math.min(2, take.channels);
    const channels = version !== "raw" && mono ? 1 : of;
    return this.hear({
      url: `/api/takes/${take.id}/audio?first=0&end=${take.frames}&channels=${of}&version=${version}${stage ? `&stage=${stage}` : ""}`,
      rate: take.rate_hz,
      channels,
    });
  }

  /** The beats of a count-in, the first after a while; gives what silences those that have not come. */
  async countIn(beats: number, everyMs: number, afterMs: number): Promise<() => void> {
    const asked = performance.now();
    await this.start();
    const { context } = this;
    if (!context) return () => undefined;
    const begin = context.currentTime + (afterMs - (performance.now() - asked)) / 1000;
    const all = Array.from({ length: beats }, (_, n) => {
      const at = Math.max(context.currentTime, begin + (n * everyMs) / 1000);
      const gain = new GainNode(context, { gain: 0 });
      gain.gain.setValueAtTime(0.25, at);
      gain.gain.exponentialRampToValueAtTime(1e-4, at + 0.05);
      const beat = new OscillatorNode(context, { frequency: n === 0 ? 1600 : 1000 });
      beat.connect(gain).connect(this.out ?? context.destination);
      beat.start(at);
      beat.stop(at + 0.06);
      return beat;
    });
    return () => all.forEach((beat) => beat.stop());
  }

  /** A plain tone for a moment. */
  async plainTone(hz: number, levelDb = -20): Promise<void> {
    await this.start();
    if (!this.context) return;
    const now = this.context.currentTime;
    const gain = new GainNode(this.context, { gain: 10 ** (levelDb / 20) });
    gain.gain.setTargetAtTime(0, now + 0.6, 0.08);
    const sine = new OscillatorNode(this.context, { frequency: hz });
    sine.connect(gain).connect(this.out ?? this.context.destination);
    sine.start(now);
    sine.stop(now + 1.2);
  }

  /** A sine held beside the sound; `undefined` ends it. */
  async reference(hz: number | undefined, levelDb = -20): Promise<void> {
    await this.start();
    this.tone?.stop();
    this.tone = undefined;
    if (hz === undefined || !this.context) return;
    const gain = new GainNode(this.context, { gain: 10 ** (levelDb / 20) });
    this.tone = new OscillatorNode(this.context, { frequency: hz });
    this.tone.connect(gain).connect(this.out ?? this.context.destination);
    this.tone.start();
  }
}

export const player = new Player();

let playing: (() => void) | undefined;

/** Keys of a real MIDI keyboard, once the user allows it. */
export async function listenToMidi(): Promise<number> {
  await findMidi();
  const { midiMissing, midiInputs } = useDevices.getState();
  if (midiMissing) throw new Error(midiMissing);
  playing ??= hearMidi(([status = 0, key = 0, velocity = 0]) => {
    if ((status & 0xf0) === 0x90 && velocity > 0) void player.on(key, velocity);
    // A strike of 0 is a key that comes up, and says nothing of how fast.
    else if ((status & 0xf0) === 0x90) player.off(key);
    else if ((status & 0xf0) === 0x80) player.off(key, velocity);
    else if ((status & 0xf0) === 0xb0) player.controller(key, velocity);
    else if ((status & 0xf0) === 0xc0) player.program(key + 1);
    // Its lower seven bits come first.
    else if ((status & 0xf0) === 0xe0) player.bend(velocity * 128 + key);
    else if ((status & 0xf0) === 0xd0) player.pressure(key);
    else if ((status & 0xf0) === 0xa0) player.keyPressure(key, velocity);
  });
  useSound.setState({ midi: true });
  return midiInputs.length;
}

/** MIDI keyboards are heard no longer. */
export function stopMidi(): void {
  playing?.();
  playing = undefined;
  useSound.setState({ midi: false });
  player.quiet();
}

// A page that is hidden, or a keyboard that is pulled out, tells of no key that comes up.
document.addEventListener("visibilitychange", () => {
  if (document.hidden) player.quiet();
});
whenMidiGoes(() => player.quiet());

const LETTERS = "zsxdcvgbhnjmq2w3er5t6y7u";

/** The computer's letter keys, while Play keys is on: two octaves from C3. */
export function keyOfLetter(code: string): number | undefined {
  const at = LETTERS.indexOf(code.replace(/^(Key|Digit)/, "").toLowerCase());
  if (at < 0) return undefined;
  return at < 12 ? 48 + at : 60 + at - 12;
}
