// Numbers the input's frames where they arrive, on the audio thread, and counts those that never did.
declare const currentFrame: number;
declare const registerProcessor: (name: string, processor: unknown) => void;
declare class AudioWorkletProcessor {
  readonly port: MessagePort;
}

/** Frames sent at once: 21 ms at 48 kHz. */
const BLOCK = 1024;
/** Frames of one call (Web Audio 1.1, render quantum). */
const QUANTUM = 128;

export interface CapturedBlock {
  /** Number of its first frame, from 0 at the beginning of the recording. */
  first: number;
  samples: Float32Array;
  /** Frames since the block before that never came: they are silence here. */
  lost: number;
  /** The context's frame at which the recording's frame 0 was. */
  origin: number;
}

class Capture extends AudioWorkletProcessor {
  private channels: number;
  private block: Float32Array;
  private filled = 0;
  private sent = 0;
  private origin = -1;
  private expected = -1;
  private lost = 0;

  constructor(options: { processorOptions: { channels: number } }) {
    super();
    this.channels = options.processorOptions.channels;
    this.block = new Float32Array(BLOCK * this.channels);
  }

  process(inputs: Float32Array[][]): boolean {
    const input = inputs[0];
    // Before the device delivers there is no channel; the clock begins with its first frame.
    const first = input?.[0];
    if (this.origin < 0) {
      if (!first) return true;
      this.origin = this.expected = currentFrame;
    }
    // What the device or the thread left out is silence, counted, so that frame numbers stay on the context's clock.
    const gap = currentFrame - this.expected + (first ? 0 : QUANTUM);
    this.lost += gap;
    for (let n = 0; n < gap; n++) this.put(undefined, 0);
    this.expected = currentFrame + (first?.length ?? QUANTUM);
    for (let n = 0; n < (first?.length ?? 0); n++) this.put(input, n);
    return true;
  }

  private put(input: Float32Array[] | undefined, n: number): void {
    for (let c = 0; c < this.channels; c++) this.block[this.filled * this.channels + c] = (input?.[c] ?? input?.[0])?.[n] ?? 0;
    this.filled += 1;
    if (this.filled === BLOCK) this.send();
  }

  private send(): void {
    const samples = this.block;
    this.port.postMessage({ first: this.sent, samples, lost: this.lost, origin: this.origin } satisfies CapturedBlock, [samples.buffer]);
    this.sent += BLOCK;
    this.lost = 0;
    this.filled = 0;
    this.block = new Float32Array(BLOCK * this.channels);
  }
}

registerProcessor("ladder-capture", Capture);
