// Numbers the input's frames where they arrive, on the audio thread, and counts those that never did.
declare const currentFrame: number;
declare const registerProcessor: (name: string, processor: unknown) => void;
declare class AudioWorkletProcessor {
  readonly port: MessagePort;
}

/** Frames sent at once: 21 ms at 48 kHz. */
const BLOCK = 1024;

export interface CapturedBlock {
  /** Number of its first frame, from 0 at the beginning of the recording. */
  first: number;
  samples: Float32Array;
  /** Frames that the audio thread passed over before this block. */
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
    if (!input || input.length === 0) return true;
    if (this.origin < 0) this.origin = currentFrame;
    else if (currentFrame > this.expected) this.lost += currentFrame - this.expected;
    const frames = input[0]!.length;
    this.expected = currentFrame + frames;
    for (let n = 0; n < frames; n++) {
      for (let c = 0; c < this.channels; c++) this.block[this.filled * this.channels + c] = (input[c] ?? input[0]!)[n]!;
      this.filled += 1;
      if (this.filled === BLOCK) this.send();
    }
    return true;
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
