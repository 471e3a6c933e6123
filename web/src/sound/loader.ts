// Fetches a program's audio off the page's thread: the head of every sample first, then the rest, in slices, under a budget.
export interface LoadWish {
  port?: MessagePort;
  load?: { samples: Wanted[] };
  /** A key was struck: these samples come next. */
  first?: number[];
}

interface Wanted {
  /** The take's number, and after a `~` the name of what cleaning makes of it. */
  source: string;
  frames: number;
  /** That arrive. */
  channels: number;
  first_channel: number;
  /** Of the recording, from which they are made. */
  source_channels: number;
}

const HEAD_FRAMES = 32_768;
const PIECE_FRAMES = 131_072;
const SLICE_BYTES = 65_536;
const BUDGET_BYTES = 512 * 1024 * 1024;

let port: MessagePort | undefined;
let round = 0;
let urgent: number[] = [];

interface Loading extends Wanted {
  arrived: number;
}

async function piece(sample: Loading, index: number, end: number, mine: number): Promise<void> {
  const first = sample.arrived;
  const [take, name] = sample.source.split("~");
  const version = name ? `&version=cleaned&name=${name}` : "";
  const response = await fetch(
    `/api/takes/${take}/audio?first=${first}&end=${end}&first_channel=${sample.first_channel}&channels=${sample.source_channels}${version}`,
  );
  if (!response.ok) throw new Error(await response.text());
  const bytes = await response.arrayBuffer();
  if (mine !== round || !port) return;
  const perFrame = sample.channels * 4;
  const sliceFrames = Math.floor(SLICE_BYTES / perFrame);
  const count = bytes.byteLength / perFrame;
  for (let at = 0; at < count; at += sliceFrames) {
    const data = bytes.slice(at * perFrame, Math.min(count, at + sliceFrames) * perFrame);
    port.postMessage({ type: "audio", sample: index, frames: sample.frames, channels: sample.channels, first: first + at, data }, [data]);
  }
  sample.arrived = first + count;
}

async function load(samples: Loading[], mine: number): Promise<void> {
  let spent = 0;
  for (const [index, sample] of samples.entries()) {
    if (mine !== round) return;
    await piece(sample, index, Math.min(sample.frames, HEAD_FRAMES), mine);
    postMessage({ heads: index + 1, of: samples.length });
  }
  for (;;) {
    if (mine !== round) return;
    const next = urgent.find((i) => samples[i] && samples[i].arrived < samples[i].frames);
    const index = next ?? samples.findIndex((s) => s.arrived < s.frames);
    const sample = samples[index];
    if (!sample) return;
    if (next === undefined && spent > BUDGET_BYTES) {
      // Over the budget only what is played is fetched.
      await new Promise((resolve) => setTimeout(resolve, 50));
      continue;
    }
    const before = sample.arrived;
    await piece(sample, index, Math.min(sample.frames, before + PIECE_FRAMES), mine);
    spent += (sample.arrived - before) * sample.channels * 4;
    if (sample.arrived === before) return;
  }
}

onmessage = (event: MessageEvent<LoadWish>) => {
  const wish = event.data;
  if (wish.port) port = wish.port;
  if (wish.first) urgent = wish.first;
  if (wish.load) {
    round += 1;
    urgent = [];
    const samples = wish.load.samples.map((sample) => ({ ...sample, arrived: 0 }));
    void load(samples, round).catch((error: unknown) => postMessage({ failed: String(error) }));
  }
};
