// The engine on the audio thread. It is given a compiled module, a program, slices of audio and keys; it tells its own meter.
import { Going, type Message, Metronome, type Phrase } from "./going";
import type { ToLoader } from "./loading";
import type { Pool, Want } from "./slabs";

/** What the engine gives out (`engine-web`). */
export interface Engine {
  memory: WebAssembly.Memory;
  start: (rate: number, voices: number, budgetBytes: number) => void;
  exchange: () => number;
  expect_program: (length: number) => void;
  take_program: (length: number) => number;
  take_audio: (sample: number, channels: number, slab: number, slabs: number, frames: number, asHead: number) => void;
  slab_frames: () => number;
  margin_frames: () => number;
  most_slabs: () => number;
  slabs: () => number;
  wanted: () => number;
  ran_out: () => number;
  short_keys: (part: number) => number;
  set: (sample: number, setting: number, value: number) => void;
  place: (strand: number, region: number, lowKey: number, highKey: number, lowStrike: number, highStrike: number) => void;
  note_on: (key: number, velocity: number) => void;
  key_up: (key: number, speed: number) => void;
  all_notes_off: () => void;
  controller: (controller: number, value: number) => void;
  bend: (value: number) => void;
  pressure: (value: number) => void;
  key_pressure: (key: number, value: number) => void;
  shape_for_itself: (strand: number, region: number) => void;
  shape: (shape: number, setting: number, of: number, value: number) => void;
  effect: (id: number, setting: number, value: number) => void;
  finish_program: () => void;
  loudness_course: (strand: number, heldMs: number, stepMs: number, values: number) => number;
  control: (id: number, value: number) => void;
  controls_to_first: () => void;
  midi: (status: number, first: number, second: number) => void;
  tempo: (quarters: number) => void;
  listen_to: (count: number) => void;
  sounding: () => number;
  render: () => void;
  left: () => number;
  right: () => number;
}

export type ToEngine =
  /** A program comes in pieces; the first says how long it is. */
  | { type: "program"; length?: number; data: ArrayBuffer }
  | { type: "audio"; sample: number; channels: number; slab: number; slabs: number; head: boolean; data: ArrayBuffer }
  | { type: "on"; key: number; velocity: number }
  | { type: "off"; key: number; speed: number }
  | { type: "set"; sample: number; setting: number; value: number }
  /** Regions that are dragged, by strand and number: on which keys and strikes they lie. */
  | { type: "place"; of: Moved[] }
  | { type: "controller"; controller: number; value: number }
  | { type: "bend"; value: number }
  | { type: "pressure"; value: number }
  | { type: "keyPressure"; key: number; value: number }
  /** A number of a shape that is dragged: of a region's own, where it is one's. */
  | { type: "shape"; shape: ShapeName; setting: number; of: number; value: number }
  /** A number of an effect that is dragged: 0 whether it is on, 1 its level, its settings from 2 on. */
  | { type: "effect"; id: number; setting: number; value: number }
  /** A control of the panel is moved, 0 to 1. */
  | { type: "control"; id: number; value: number }
  /** All controls stand where they do at first: another instrument comes. */
  | { type: "controls to first" }
  /** Only these are heard, all where there are none: a strand, and one of its regions or −1. */
  | { type: "alone"; of: [strand: number, region: number][] }
  /** A phrase begins, with an audio file beside it where there is one; or it ends. */
  | { type: "phrase"; phrase: Phrase | undefined; beside?: [Float32Array, Float32Array] }
  | { type: "tempo"; tempo: Tempo }
  | { type: "quiet" }
  | { type: "port"; port: MessagePort };

/** Of what is played and of what is counted, in quarter notes a minute. */
export interface Tempo {
  quarters: number;
  /** That of the phrase as it was kept: it goes so much faster or slower. */
  of: number;
  metronome: boolean;
  goesRound: boolean;
}

/** A shape by its name, and the region that has it for itself. */
export interface ShapeName {
  id: number;
  region?: [strand: number, number: number];
}

export type Moved = [strand: number, region: number, lowKey: number, highKey: number, lowStrike: number, highStrike: number];

export interface Meter {
  peak: number;
  /** The same, left and right. */
  sides: [left: number, right: number];
  /** Most at once since the reading before. */
  voices: number;
  /** The regions that sound, by their places in the program, each once. */
  sounding: number[];
  /** Voices that faded for want of audio. */
  ranOut: number;
  /** Keys that did, until they are struck again. */
  short: number[];
  /** How full the memory for audio is, 0 to 1. */
  full: number;
  /** The phrase that is played: where it is, as a share, how often it has begun, and the keys it holds. */
  phrase?: { at: number; rounds: number; keys: number[] };
}

declare const sampleRate: number;
declare class AudioWorkletProcessor {
  readonly port: MessagePort;
}
declare function registerProcessor(name: string, processor: unknown): void;

const VOICES = 128;
/** Blocks between two readings of the meter: about 43 ms. */
const METER_BLOCKS = 16;
/** Blocks between two times that voices are asked what they want: about 5 ms. */
const WANT_BLOCKS = 2;

class LadderEngine extends AudioWorkletProcessor {
  private readonly engine: Engine;
  private loader: MessagePort | undefined;
  private sides: [number, number] = [0, 0];
  private blocks = 0;
  /** Most voices since the meter was read: what is short is not missed. */
  private most = 0;
  private tempo: Tempo = { quarters: 120, of: 120, metronome: false, goesRound: true };
  private going: Going | undefined;
  private lengthMs = 0;
  private beside: [Float32Array, Float32Array] | undefined;
  /** Frames since the phrase began its round. */
  private besideAt = 0;
  private readonly metronome = new Metronome(sampleRate);
  /** Beats since counting began, where there is no phrase to count by, and the one that was struck last. */
  private beats = 0;
  private struck = "";

  constructor(options: { processorOptions: { module: WebAssembly.Module; budgetBytes: number } }) {
    super();
    this.engine = new WebAssembly.Instance(options.processorOptions.module, {}).exports as unknown as Engine;
    this.engine.start(sampleRate, VOICES, options.processorOptions.budgetBytes);
    this.port.onmessage = (event: MessageEvent<ToEngine>) => this.hear(event.data);
  }

  private write(bytes: ArrayBuffer): number {
    // Looked up anew each time: growing memory detaches older views.
    new Uint8Array(this.engine.memory.buffer).set(new Uint8Array(bytes), this.engine.exchange());
    return bytes.byteLength;
  }

  private hear(message: ToEngine): void {
    switch (message.type) {
      case "program":
        if (message.length !== undefined) this.engine.expect_program(message.length);
        this.engine.take_program(this.write(message.data));
        break;
      case "audio": {
        const frames = this.write(message.data) / 4 / message.channels;
        this.engine.take_audio(message.sample, message.channels, message.slab, message.slabs, frames, message.head ? 1 : 0);
        break;
      }
      case "on":
        this.engine.note_on(message.key, message.velocity);
        break;
      case "off":
        this.engine.key_up(message.key, message.speed);
        break;
      case "set":
        this.engine.set(message.sample, message.setting, message.value);
        break;
      case "place":
        for (const of of message.of) this.engine.place(...of);
        break;
      case "bend":
        this.engine.bend(message.value);
        break;
      case "pressure":
        this.engine.pressure(message.value);
        break;
      case "keyPressure":
        this.engine.key_pressure(message.key, message.value);
        break;
      case "shape":
        if (message.shape.region) this.engine.shape_for_itself(...message.shape.region);
        this.engine.shape(message.shape.id, message.setting, message.of, message.value);
        break;
      case "effect":
        this.engine.effect(message.id, message.setting, message.value);
        break;
      case "control":
        this.engine.control(message.id, message.value);
        break;
      case "controls to first":
        this.engine.controls_to_first();
        break;
      case "controller":
        this.engine.controller(message.controller, message.value);
        break;
      case "phrase":
        for (const due of this.going?.letGo() ?? []) this.play(due);
        this.going = message.phrase && new Going(message.phrase, this.tempo.goesRound);
        this.lengthMs = message.phrase?.lengthMs ?? 0;
        this.beside = message.beside;
        this.besideAt = 0;
        this.beats = 0;
        this.struck = "";
        break;
      case "tempo":
        this.tempo = message.tempo;
        if (this.going) this.going.goesRound = message.tempo.goesRound;
        this.engine.tempo(message.tempo.quarters);
        break;
      case "alone":
        this.write(new Float64Array(message.of.flat()).buffer);
        this.engine.listen_to(message.of.length);
        break;
      case "quiet":
        this.engine.all_notes_off();
        break;
      case "port":
        this.loader = message.port;
        message.port.onmessage = (event: MessageEvent<ToEngine>) => this.hear(event.data);
        this.loader.postMessage({ pool: this.pool() } satisfies ToLoader);
        break;
    }
  }

  private pool(): Pool {
    return { slabFrames: this.engine.slab_frames(), marginFrames: this.engine.margin_frames(), most: this.engine.most_slabs() };
  }

  /** What voices will need goes to the loader. */
  private ask(): void {
    const count = this.engine.wanted();
    if (count === 0) return;
    const numbers = new Float64Array(this.engine.memory.buffer, this.engine.exchange(), 4 * count);
    const wants: Want[] = [];
    for (let n = 0; n < 4 * count; n += 4)
      wants.push({ sample: numbers[n]!, first: numbers[n + 1]!, end: numbers[n + 1]! + numbers[n + 2]!, within: numbers[n + 3]! });
    this.loader?.postMessage({ wants } satisfies ToLoader);
  }

  private play([, status, first, second]: Message): void {
    this.engine.midi(status, first, second);
  }

  /** Time goes on by a block: the phrase, and the beats. */
  private goOn(frames: number): void {
    const ms = (1000 * frames) / sampleRate;
    const { quarters, of, metronome } = this.tempo;
    const { going } = this;
    if (going) {
      const rounds = going.rounds;
      for (const due of going.goOn((ms * quarters) / of)) this.play(due);
      if (going.rounds !== rounds) this.besideAt = 0;
      if (going.ended) this.going = undefined;
    }
    this.beats = going ? (going.at * of) / 60_000 : this.beats + (ms * quarters) / 60_000;
    const beat = `${going?.rounds ?? 0} ${Math.floor(this.beats)}`;
    if (metronome && beat !== this.struck) this.metronome.strike();
    this.struck = beat;
  }

  private phrase(): Pick<Meter, "phrase"> {
    const { going, lengthMs } = this;
    return going ? { phrase: { at: lengthMs > 0 ? going.at / lengthMs : 0, rounds: going.rounds, keys: going.keys } } : {};
  }

  private addBeside(left: Float32Array, right: Float32Array): void {
    const [l, r] = this.beside ?? [];
    if (!this.going || !l || !r) return;
    for (let n = 0; n < left.length && this.besideAt < l.length; n++, this.besideAt++) {
      left[n]! += l[this.besideAt]!;
      right[n]! += r[this.besideAt]!;
    }
  }

  process(_inputs: Float32Array[][], outputs: Float32Array[][]): boolean {
    const [left, right] = outputs[0] ?? [];
    if (!left || !right) return true;
    this.goOn(left.length);
    this.engine.render();
    const memory = this.engine.memory.buffer;
    left.set(new Float32Array(memory, this.engine.left(), left.length));
    right.set(new Float32Array(memory, this.engine.right(), right.length));
    for (let n = 0; n < left.length; n++) {
      this.sides[0] = Math.max(this.sides[0], Math.abs(left[n]!));
      this.sides[1] = Math.max(this.sides[1], Math.abs(right[n]!));
    }
    // What stands beside the instrument is not metered.
    this.addBeside(left, right);
    this.metronome.add(left, right);
    this.blocks += 1;
    this.most = Math.max(this.most, this.engine.sounding());
    if (this.blocks % WANT_BLOCKS === 0) this.ask();
    if (this.blocks >= METER_BLOCKS) {
      const count = this.engine.sounding();
      const sounding = [...new Set(new Uint32Array(memory.slice(this.engine.exchange(), this.engine.exchange() + 4 * count)))];
      const full = this.engine.slabs() / this.engine.most_slabs();
      this.port.postMessage({
        peak: Math.max(...this.sides),
        sides: this.sides,
        voices: this.most,
        sounding,
        ranOut: this.engine.ran_out(),
        short: this.short(),
        full,
        ...this.phrase(),
      } satisfies Meter);
      this.blocks = 0;
      this.sides = [0, 0];
      this.most = 0;
    }
    return true;
  }

  private short(): number[] {
    return [0, 1, 2, 3].flatMap((part) => {
      const bits = this.engine.short_keys(part);
      return bits === 0
        ? []
        : Array.from({ length: 32 }, (_, n) => n)
            .filter((n) => (bits >>> n) & 1)
            .map((n) => 32 * part + n);
    });
  }
}

registerProcessor("ladder-engine", LadderEngine);
