// The line from this computer's input to the server: numbered frames, kept until they are acknowledged and sent again after a break.
import { create } from "zustand";
import type { Schemas } from "../api/client";
import { lineUrl } from "../api/live";
import type { CapturedBlock } from "./capture-worklet";
import workletUrl from "./capture-worklet.ts?worker&url";
import { sayError } from "../state/view";
import { midiAccess, sentenceOf, useChoices } from "./devices";

type Order = Schemas["Order"];
type ToPage = Schemas["ToPage"];
type FromPage = Schemas["FromPage"];

/** Kept at most while the line is broken: ten minutes of stereo at 48 kHz is 230 MB. */
const MOST_KEPT_SECONDS = 600;
const AGAIN_AFTER_MS = 700;
/** Two seconds of blocks: short enough to follow two clocks that drift apart. */
const CLOCK_READINGS = 96;
/** How often the clock is read: no multiple of what devices ask for at once. */
const CLOCK_EVERY_MS = 17;

interface LineState {
  open: boolean;
  /** Whether the server is heard. */
  connected: boolean;
  /** Seconds of sound that the server has not acknowledged. */
  keptSeconds: number;
  lostFrames: number;
  rate: number;
  /** What the device says it runs at. */
  deviceRate: number | undefined;
  device: string;
  peak: number;
  says: string | undefined;
}

const CLOSED: LineState = {
  open: false,
  connected: false,
  keptSeconds: 0,
  lostFrames: 0,
  rate: 0,
  deviceRate: undefined,
  device: "",
  peak: 0,
  says: undefined,
};
export const useLine = create<LineState>(() => CLOSED);

interface Kept {
  first: number;
  frames: number;
  bytes: ArrayBuffer;
}

export class Line {
  private kept: Kept[] = [];
  private keptFrames = 0;
  private socket: WebSocket | undefined;
  private ended = false;
  private origin = 0;
  /** What was said while the line was broken: it goes out after the frames that were heard before. */
  private orders: Order[] = [];
  /** Newest readings of the performance clock less the context's, in ms: each alone jitters by more than a millisecond. */
  private readonly clock: number[] = [];
  private readAt = 0;
  private ticking: ReturnType<typeof setInterval> | undefined;
  /** What has left already of the run that the line belongs to: the server sends again after a break what it has not heard of. */
  private readonly left = new Set<number>();
  private run: string | undefined;
  /** Channels on which notes may sound in the device. */
  private readonly midiChannels = new Set<number>();
  private node: AudioWorkletNode | undefined;
  private source: MediaStreamAudioSourceNode | undefined;
  private deviceGone = false;
  private awake: WakeLockSentinel | undefined;
  private constructor(
    readonly instrument: number,
    private readonly context: AudioContext,
    private stream: MediaStream,
    private readonly channels: number,
  ) {}

  /** Opens the chosen input without any processing, at the plan's rate: where the device runs at another, the browser converts once. */
  static async open(instrument: number, rate: number, channels: number): Promise<Line> {
    const stream = await openInput(channels);
    let context: AudioContext | undefined;
    try {
      context = new AudioContext({ sampleRate: rate, latencyHint: "interactive" });
      await context.audioWorklet.addModule(workletUrl);
      await context.resume();
    } catch (error) {
      // Nothing is held that is not used.
      stopTracks(stream);
      void context?.close();
      throw new Error(sentenceOf(error));
    }
    const line = new Line(instrument, context, stream, channels);
    useLine.setState({ ...CLOSED, open: true, rate: context.sampleRate });
    line.watchDevice();
    return line;
  }

  /** Tells of the device, and waits for it where it goes: what comes meanwhile is silence, and counted as lost. */
  private watchDevice(): void {
    const track = this.stream.getAudioTracks()[0];
    useLine.setState({ deviceRate: track?.getSettings().sampleRate, device: track?.label ?? "" });
    track?.addEventListener("ended", () => {
      if (this.ended) return;
      this.deviceGone = true;
      this.say({ device: { name: null } });
      useLine.setState({
        says: "The input device has gone. Plug it in again: the recording goes on by itself, and what was kept is safe.",
      });
      navigator.mediaDevices.addEventListener("devicechange", this.seekDevice);
    });
  }

  private readonly seekDevice = () => {
    if (!this.deviceGone || this.ended) return;
    void openInput(this.channels)
      .then((stream) => {
        if (this.ended || !this.deviceGone) return stopTracks(stream);
        navigator.mediaDevices.removeEventListener("devicechange", this.seekDevice);
        this.deviceGone = false;
        this.stream = stream;
        this.connectDevice();
        this.watchDevice();
        this.say({ device: { name: useLine.getState().device } });
        useLine.setState({ says: undefined });
        return undefined;
      })
      // It is another that was plugged in: this one is still waited for.
      .catch(() => undefined);
  };

  private connectDevice(): void {
    if (!this.node) return;
    this.source?.disconnect();
    // Held on to: one that nobody refers to may be collected as garbage, and falls silent.
    this.source = new MediaStreamAudioSourceNode(this.context, { mediaStream: this.stream });
    this.source.connect(this.node);
  }

  /** Frames per block are few: the meter follows the sound. */
  begin(): void {
    const node = new AudioWorkletNode(this.context, "ladder-capture", {
      numberOfOutputs: 0,
      channelCount: this.channels,
      channelCountMode: "explicit",
      processorOptions: { channels: this.channels },
    });
    node.port.onmessage = (event: MessageEvent<CapturedBlock>) => this.take(event.data);
    node.onprocessorerror = () =>
      useLine.setState({ says: "The browser's own sound path broke down. Stop, and begin again: what arrived until then is kept." });
    this.node = node;
    this.connectDevice();
    window.addEventListener("beforeunload", this.warn);
    // A screen that goes dark may take the timers of a long take with it.
    void navigator.wakeLock?.request("screen").then(
      (lock) => {
        if (this.ended) void lock.release();
        else this.awake = lock;
      },
      () => undefined,
    );
    // Not where blocks arrive: in step with the rendering, a reading falls into the middle of it and is off by some quanta.
    this.ticking = setInterval(() => this.readClock(), CLOCK_EVERY_MS);
    this.connect();
  }

  /** A page that is left takes with it what the server has not heard. */
  private readonly warn = (event: BeforeUnloadEvent) => {
    if (this.keptFrames > this.context.sampleRate) event.preventDefault();
  };

  private take({ first, samples, lost, origin }: CapturedBlock): void {
    if (this.ended) return;
    this.origin = origin;
    let peak = 0;
    for (const x of samples) peak = Math.max(peak, Math.abs(x));
    const bytes = new ArrayBuffer(8 + samples.byteLength);
    new DataView(bytes).setBigUint64(0, BigInt(first), true);
    new Float32Array(bytes, 8).set(samples);
    const frames = samples.length / this.channels;
    this.kept.push({ first, frames, bytes });
    this.keptFrames += frames;
    const gone = this.deviceGone ? frames : lost;
    if (gone > 0) {
      this.say({ lost: { frames: gone } });
      useLine.setState((state) => ({ lostFrames: state.lostFrames + gone }));
    }
    // A line that stays away longer than memory lasts: the oldest goes, and is counted.
    while (this.keptFrames > MOST_KEPT_SECONDS * this.context.sampleRate) {
      const gone = this.kept.shift()!;
      this.keptFrames -= gone.frames;
      useLine.setState((state) => ({
        lostFrames: state.lostFrames + gone.frames,
        says: "The line was away for too long: the oldest sound had to be dropped.",
      }));
    }
    // A hidden page's timers hardly run.
    if (performance.now() - this.readAt > 10 * CLOCK_EVERY_MS) this.readClock();
    useLine.setState({ peak, keptSeconds: this.keptFrames / this.context.sampleRate });
    if (this.socket?.readyState === WebSocket.OPEN) this.socket.send(bytes);
  }

  private say(message: FromPage): void {
    if (this.socket?.readyState === WebSocket.OPEN) this.socket.send(JSON.stringify(message));
  }

  private connect(): void {
    if (this.ended) return;
    let socket: WebSocket;
    try {
      socket = new WebSocket(lineUrl(`/api/instruments/${this.instrument}/line`));
    } catch {
      setTimeout(() => this.connect(), AGAIN_AFTER_MS);
      return;
    }
    socket.onmessage = (event: MessageEvent<string>) => {
      const message = JSON.parse(event.data) as ToPage;
      if (message === "finished") return this.close();
      if ("refused" in message) {
        this.close();
        return sayError(new Error(message.refused.sentence));
      }
      if ("opened" in message) this.greeted(socket, message.opened.run, message.opened.frame ?? undefined);
      else if ("acknowledged" in message) this.acknowledged(message.acknowledged.frame);
      else if ("midi" in message) {
        if (this.first(message.midi.number)) this.sendMidi(message.midi);
      } else if ("play" in message) {
        if (this.first(message.play.number)) void this.play(message.play);
      } else if ("play_pulse" in message) {
        if (this.first(message.play_pulse.number)) this.pulse(message.play_pulse);
      }
    };
    socket.onclose = () => {
      this.socket = undefined;
      useLine.setState({ connected: false });
      if (!this.ended) setTimeout(() => this.connect(), AGAIN_AFTER_MS);
    };
  }

  /** After a break everything that is not safe goes out again, oldest first. */
  private greeted(socket: WebSocket, run: string, wanted: number | undefined): void {
    // Another run than before (the server was started again) counts its messages anew.
    if (this.run !== run) this.left.clear();
    this.run = run;
    if (wanted !== undefined) this.acknowledged(wanted);
    this.socket = socket;
    useLine.setState({ connected: true });
    const oldest = this.kept[0]?.first;
    if (oldest !== undefined && wanted !== undefined && oldest > wanted) this.say({ oldest: { frame: oldest } });
    for (const block of this.kept) socket.send(block.bytes);
    for (const order of this.orders.splice(0)) this.say({ order: { order } });
  }

  private acknowledged(frame: number): void {
    while (this.kept[0] && this.kept[0].first + this.kept[0].frames <= frame) this.keptFrames -= this.kept.shift()!.frames;
    useLine.setState({ keptSeconds: this.keptFrames / this.context.sampleRate });
  }

  /** When an input frame is, on the clock that MIDI is timed by. */
  private timeOf(frame: number): number {
    if (this.clock.length === 0) this.readClock();
    const sorted = [...this.clock].sort((a, b) => a - b);
    return ((this.origin + frame) / this.context.sampleRate) * 1000 + sorted[sorted.length >> 1]!;
  }

  private readClock(): void {
    this.readAt = performance.now();
    const { performanceTime, contextTime } = this.context.getOutputTimestamp();
    this.clock.push((performanceTime ?? performance.now()) - (contextTime ?? this.context.currentTime) * 1000);
    if (this.clock.length > CLOCK_READINGS) this.clock.shift();
  }

  get open(): boolean {
    return !this.ended;
  }

  /** What the user says takes its place after what was heard before it, through a broken line too. */
  order(order: Order): void {
    if (this.socket?.readyState === WebSocket.OPEN) this.say({ order: { order } });
    else this.orders.push(order);
  }

  /** Whether this leaves for the first time; if not, it is said again that it did. */
  private first(number: number): boolean {
    if (this.left.has(number)) {
      this.say({ left: { number, at_frame: 0, left_frame: 0 } });
      return false;
    }
    this.left.add(number);
    return true;
  }

  private sendMidi({ number, at_frame: frame, bytes }: { number: number; at_frame: number; bytes: number[] }): void {
    const output = midiAccess()?.outputs.get(useChoices.getState().midiOutput);
    if (!output) {
      useLine.setState({ says: "The MIDI output is not there: choose one, or plug it in." });
      return;
    }
    if ((bytes[0]! & 0xf0) === 0x90) this.midiChannels.add(bytes[0]! & 0x0f);
    const at = this.timeOf(frame);
    const late = performance.now() - at;
    output.send(bytes, Math.max(at, performance.now()));
    // A late note-on moves all that follows from it; other messages only say that they left.
    const counts = late > 0 && (bytes[0]! & 0xf0) === 0x90;
    this.say({ left: { number, at_frame: frame, left_frame: frame + (counts ? Math.round((late / 1000) * this.context.sampleRate) : 0) } });
  }

  private async play({
    number,
    at_frame,
    take,
    first,
    end,
  }: {
    number: number;
    at_frame: number;
    take: number;
    first: number;
    end: number;
  }): Promise<void> {
    const response = await fetch(`/api/takes/${take}/audio?first=${first}&end=${end}`);
    if (!response.ok) return;
    const samples = new Float32Array(await response.arrayBuffer());
    const channels = samples.length / (end - first);
    const buffer = new AudioBuffer({ length: end - first, numberOfChannels: channels, sampleRate: this.context.sampleRate });
    for (let c = 0; c < channels; c++) {
      const side = buffer.getChannelData(c);
      for (let n = 0; n < side.length; n++) side[n] = samples[n * channels + c]!;
    }
    this.start(buffer, number, at_frame);
  }

  private pulse({ number, at_frame }: { number: number; at_frame: number }): void {
    const rate = this.context.sampleRate;
    const buffer = new AudioBuffer({ length: Math.round(rate * 0.005), sampleRate: rate });
    const side = buffer.getChannelData(0);
    for (let n = 0; n < side.length; n++) side[n] = 0.7 * Math.cos((2 * Math.PI * 1000 * n) / rate);
    this.start(buffer, number, at_frame);
  }

  private start(buffer: AudioBuffer, number: number, frame: number): void {
    const source = new AudioBufferSourceNode(this.context, { buffer });
    source.connect(this.context.destination);
    const at = (this.origin + frame) / this.context.sampleRate;
    const late = this.context.currentTime - at;
    source.start(Math.max(at, this.context.currentTime));
    this.say({ left: { number, at_frame: frame, left_frame: frame + Math.max(0, Math.round(late * this.context.sampleRate)) } });
  }

  close(): void {
    if (this.ended) return;
    this.ended = true;
    clearInterval(this.ticking);
    window.removeEventListener("beforeunload", this.warn);
    navigator.mediaDevices.removeEventListener("devicechange", this.seekDevice);
    void this.awake?.release();
    this.silence();
    this.socket?.close();
    stopTracks(this.stream);
    void this.context.close();
    useLine.setState(CLOSED);
  }

  /** A device whose notes were scheduled is left silent: what has not left does not, pedals and keys go up, all sound ends (MIDI 1.0, CC 64, 123, 120). */
  private silence(): void {
    const output = midiAccess()?.outputs.get(useChoices.getState().midiOutput);
    if (!output) return;
    (output as { clear?: () => void }).clear?.();
    for (const channel of this.midiChannels)
      for (const [number, value] of [
        [64, 0],
        [123, 0],
        [120, 0],
      ] as const)
        output.send([0xb0 | channel, number, value]);
  }
}

function stopTracks(stream: MediaStream): void {
  for (const track of stream.getTracks()) track.stop();
}

/** The chosen input without any processing. */
async function openInput(channels: number): Promise<MediaStream> {
  const { input } = useChoices.getState();
  try {
    return await navigator.mediaDevices.getUserMedia({
      audio: {
        deviceId: input ? { exact: input } : undefined,
        channelCount: { ideal: channels },
        echoCancellation: false,
        autoGainControl: false,
        noiseSuppression: false,
      },
    });
  } catch (error) {
    throw new Error(sentenceOf(error));
  }
}
