// The engine on the audio thread. It is given a compiled module, a program, slices of audio and keys; it tells its own meter.
interface Engine {
  memory: WebAssembly.Memory;
  start: (rate: number, voices: number) => void;
  exchange: () => number;
  reserve: (bytes: number) => void;
  take_program: (length: number) => number;
  take_audio: (sample: number, frames: number, channels: number, first: number, count: number) => number;
  set: (sample: number, setting: number, value: number) => void;
  note_on: (key: number, velocity: number) => void;
  note_off: (key: number) => void;
  all_notes_off: () => void;
  controller: (controller: number, value: number) => void;
  listen_to: (count: number) => void;
  sounding: () => number;
  render: () => void;
  left: () => number;
  right: () => number;
}

export type ToEngine =
  | { type: "program"; bytes: ArrayBuffer }
  | { type: "audio"; sample: number; frames: number; channels: number; first: number; data: ArrayBuffer }
  | { type: "on"; key: number; velocity: number }
  | { type: "off"; key: number }
  | { type: "set"; sample: number; setting: number; value: number }
  | { type: "controller"; controller: number; value: number }
  /** Only these are heard, all where there are none: a strand, and one of its regions or −1. */
  | { type: "alone"; of: [strand: number, region: number][] }
  | { type: "quiet" }
  | { type: "port"; port: MessagePort };

export interface Meter {
  peak: number;
  voices: number;
  /** The regions that sound, by their places in the program, each once. */
  sounding: number[];
}

declare const sampleRate: number;
declare class AudioWorkletProcessor {
  readonly port: MessagePort;
}
declare function registerProcessor(name: string, processor: unknown): void;

const VOICES = 128;
/** Blocks between two readings of the meter: about 43 ms. */
const METER_BLOCKS = 16;

class LadderEngine extends AudioWorkletProcessor {
  private readonly engine: Engine;
  private loader: MessagePort | undefined;
  private peak = 0;
  private blocks = 0;

  constructor(options: { processorOptions: { module: WebAssembly.Module } }) {
    super();
    this.engine = new WebAssembly.Instance(options.processorOptions.module, {}).exports as unknown as Engine;
    this.engine.start(sampleRate, VOICES);
    this.port.onmessage = (event: MessageEvent<ToEngine>) => this.hear(event.data);
  }

  private write(bytes: ArrayBuffer): number {
    this.engine.reserve(bytes.byteLength);
    // Looked up anew each time: growing memory detaches older views.
    new Uint8Array(this.engine.memory.buffer).set(new Uint8Array(bytes), this.engine.exchange());
    return bytes.byteLength;
  }

  private hear(message: ToEngine): void {
    switch (message.type) {
      case "program":
        this.engine.take_program(this.write(message.bytes));
        break;
      case "audio": {
        const length = this.write(message.data);
        const count = length / 4 / message.channels;
        if (this.engine.take_audio(message.sample, message.frames, message.channels, message.first, count) === 0)
          this.loader?.postMessage({ refused: message.sample });
        break;
      }
      case "on":
        this.engine.note_on(message.key, message.velocity);
        break;
      case "off":
        this.engine.note_off(message.key);
        break;
      case "set":
        this.engine.set(message.sample, message.setting, message.value);
        break;
      case "controller":
        this.engine.controller(message.controller, message.value);
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
        break;
    }
  }

  process(_inputs: Float32Array[][], outputs: Float32Array[][]): boolean {
    const [left, right] = outputs[0] ?? [];
    if (!left || !right) return true;
    this.engine.render();
    const memory = this.engine.memory.buffer;
    left.set(new Float32Array(memory, this.engine.left(), left.length));
    right.set(new Float32Array(memory, this.engine.right(), right.length));
    for (let n = 0; n < left.length; n++) this.peak = Math.max(this.peak, Math.abs(left[n]!), Math.abs(right[n]!));
    if (++this.blocks >= METER_BLOCKS) {
      const count = this.engine.sounding();
      const sounding = [...new Set(new Uint32Array(memory.slice(this.engine.exchange(), this.engine.exchange() + 4 * count)))];
      this.port.postMessage({ peak: this.peak, voices: count, sounding } satisfies Meter);
      this.blocks = 0;
      this.peak = 0;
    }
    return true;
  }
}

registerProcessor("ladder-engine", LadderEngine);
