// Fetches a program's audio off the page's thread: the head of every sample first, then the rest, in slices, under a budget.
export interface LoadWish {
  port?: MessagePort;
  /** Another program, or the same one edited: what has arrived of samples that stay is not fetched again. */
  load?: { samples: Wanted[] };
  /** A key was struck: these samples come next. */
  first?: number[];
}

interface Wanted {
  /** Its name for good. */
  id: number;
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
let samples: Loading[] = [];
let refused = new Set<number>();

interface Loading extends Wanted {
  arrived: number;
}

async function piece(sample: Loading, end: number): Promise<void> {
  const first = sample.arrived;
  const [take, name] = sample.source.split("~");
  const version = name ? `&version=cleaned&name=${name}` : "";
  const response = await fetch(
    `/api/takes/${take}/audio?first=${first}&end=${end}&first_channel=${sample.first_channel}&channels=${sample.source_channels}${version}`,
  );
  if (!response.ok) throw new Error(await response.text());
  const bytes = await response.arrayBuffer();
  // Meanwhile it may be gone, or have come by another way.
  if (!port || !samples.includes(sample) || sample.arrived !== first) return;
  const perFrame = sample.channels * 4;
  const sliceFrames = Math.floor(SLICE_BYTES / perFrame);
  const count = bytes.byteLength / perFrame;
  for (let at = 0; at < count; at += sliceFrames) {
    const data = bytes.slice(at * perFrame, Math.min(count, at + sliceFrames) * perFrame);
    port.postMessage({ type: "audio", sample: sample.id, frames: sample.frames, channels: sample.channels, first: first + at, data }, [
      data,
    ]);
  }
  sample.arrived = first + count;
}

function tell(): void {
  postMessage({ heads: samples.filter((s) => s.arrived > 0 || s.frames === 0).length, of: samples.length });
}

async function load(mine: number): Promise<void> {
  let spent = samples.reduce((sum, s) => sum + Math.max(0, s.arrived - HEAD_FRAMES) * s.channels * 4, 0);
  const left = (sample: Loading) => sample.arrived < sample.frames;
  while (mine === round) {
    // What is played comes before everything else, its head and all of it: it would run out while others' heads are fetched.
    const played = samples.find((s) => urgent.includes(s.id) && left(s));
    const headless = samples.find((s) => s.arrived === 0 && s.frames > 0);
    const sample = played ?? headless ?? samples.find(left);
    if (!sample) return;
    if (!played && !headless && spent > BUDGET_BYTES) {
      // Over the budget only what is played is fetched.
      await new Promise((resolve) => setTimeout(resolve, 50));
      continue;
    }
    const before = sample.arrived;
    await piece(sample, Math.min(sample.frames, before === 0 ? HEAD_FRAMES : before + PIECE_FRAMES));
    if (mine !== round || sample.arrived === before) return;
    if (before === 0) tell();
    else spent += (sample.arrived - before) * sample.channels * 4;
  }
}

function begin(): void {
  round += 1;
  void load(round).catch((error: unknown) => postMessage({ failed: String(error) }));
}

onmessage = (event: MessageEvent<LoadWish>) => {
  const wish = event.data;
  if (wish.port) {
    port = wish.port;
    // The engine did not know a sample yet, or has another beginning of it: that is brought again, once for each program.
    port.onmessage = (event: MessageEvent<{ refused: number }>) => {
      const sample = samples.find((s) => s.id === event.data.refused);
      if (!sample || refused.has(sample.id)) return;
      refused.add(sample.id);
      sample.arrived = 0;
      begin();
    };
  }
  if (wish.first) urgent = wish.first;
  if (wish.load) {
    refused = new Set();
    // The engine keeps what it has of the same audio: so does this list of it.
    const had = new Map(samples.map((sample) => [sample.id, sample]));
    samples = wish.load.samples.map((sample) => had.get(sample.id) ?? { ...sample, arrived: 0 });
    tell();
    begin();
  }
};
