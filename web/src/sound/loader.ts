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
  const left = (index: number) => samples[index] !== undefined && samples[index].arrived < samples[index].frames;
  while (mine === round) {
    // What is played comes before everything else, its head and all of it: it would run out while others' heads are fetched.
    const played = urgent.find(left);
    const headless = samples.findIndex((s) => s.arrived === 0 && s.frames > 0);
    const index = played ?? (headless >= 0 ? headless : samples.findIndex((_, n) => left(n)));
    const sample = samples[index];
    if (!sample) return;
    if (played === undefined && headless < 0 && spent > BUDGET_BYTES) {
      // Over the budget only what is played is fetched.
      await new Promise((resolve) => setTimeout(resolve, 50));
      continue;
    }
    const before = sample.arrived;
    await piece(sample, index, Math.min(sample.frames, before === 0 ? HEAD_FRAMES : before + PIECE_FRAMES), mine);
    if (sample.arrived === before) return;
    if (before === 0) postMessage({ heads: samples.filter((s) => s.arrived > 0).length, of: samples.length });
    else spent += (sample.arrived - before) * sample.channels * 4;
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
