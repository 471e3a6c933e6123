// Fetches a program's audio off the page's thread: what voices want first, then heads, then the rest where it fits the engine's budget.
import type { ToEngine } from "./worklet";
import { type Pool, type Run, Slabs, type Want, type Wanted } from "./slabs";

export interface LoadWish {
  port?: MessagePort;
  /** Another program, or the same one edited. */
  load?: { samples: Wanted[] };
}

/** What the engine tells the loader. */
export type ToLoader = { pool: Pool } | { wants: Want[] };

/** Heads that one request asks for. */
const HEADS_AT_ONCE = 64;
/** Requests at once for what voices want. */
const MOST_WANTED = 4;
/** A message to the engine is at most so long. */
const MESSAGE_BYTES = 1 << 16;
/** After a failure. */
const PAUSE_MS = 1_000;

let port: MessagePort | undefined;
let slabs: Slabs | undefined;
let pool: Pool | undefined;
let load: Wanted[] | undefined;
let wanted = 0;
let calm = false;

interface Piece {
  run: Run;
  sample: Wanted;
  /** In frames. */
  first: number;
  end: number;
}

function pieceOf(run: Run, pool: Pool): Piece | undefined {
  const sample = slabs?.sample(run.sample);
  if (!sample) return undefined;
  const first = run.first * pool.slabFrames;
  return { run, sample, first, end: Math.min(sample.frames, run.end * pool.slabFrames + pool.marginFrames) };
}

/** To the engine, in messages of whole slabs with what follows them. */
function send(piece: Piece, bytes: ArrayBuffer, head: boolean, pool: Pool): void {
  const perFrame = piece.sample.channels * 4;
  const atOnce = Math.max(1, Math.floor((MESSAGE_BYTES / perFrame - pool.marginFrames) / pool.slabFrames));
  for (let slab = piece.run.first; slab < piece.run.end; slab += atOnce) {
    const from = (slab - piece.run.first) * pool.slabFrames * perFrame;
    const slabsSent = Math.min(atOnce, piece.run.end - slab);
    const until = Math.min(bytes.byteLength, from + (slabsSent * pool.slabFrames + pool.marginFrames) * perFrame);
    if (from >= until) return;
    const data = bytes.slice(from, until);
    const { id, channels } = piece.sample;
    port?.postMessage({ type: "audio", sample: id, channels, slab, slabs: slabsSent, head, data } satisfies ToEngine, [data]);
  }
}

async function one(run: Run, as: "rest" | "wanted", pool: Pool): Promise<void> {
  const piece = pieceOf(run, pool);
  if (!piece) return slabs?.failed(run, as, performance.now());
  const { sample, first, end } = piece;
  const [take, name] = sample.source.split("~");
  const version = name ? `&version=cleaned&name=${name}` : "";
  const response = await fetch(
    `/api/takes/${take}/audio?first=${first}&end=${end}&first_channel=${sample.first_channel}&channels=${sample.source_channels}${version}`,
  ).catch(() => undefined);
  const bytes = response?.ok ? await response.arrayBuffer().catch(() => undefined) : undefined;
  if (!bytes || bytes.byteLength !== (end - first) * sample.channels * 4) return slabs?.failed(run, as, performance.now());
  send(piece, bytes, false, pool);
  slabs?.came(run, as, performance.now());
}

/** Many heads by one request: of each a number of frames, 32 bits, and so many; none where it cannot be read. */
async function heads(runs: Run[], pool: Pool): Promise<boolean> {
  const pieces = runs.map((run) => pieceOf(run, pool)).filter((piece) => piece !== undefined);
  const body = pieces.map(({ sample, first, end }) => {
    const [take, name] = sample.source.split("~");
    return { take: Number(take), name, first, end, first_channel: sample.first_channel, channels: sample.source_channels };
  });
  const headers = { "Content-Type": "application/json" };
  const response = await fetch("/api/heads", { method: "POST", headers, body: JSON.stringify(body) }).catch(() => undefined);
  const bytes = response?.ok ? await response.arrayBuffer().catch(() => undefined) : undefined;
  let at = 0;
  for (const piece of pieces) {
    const frames = bytes && at + 4 <= bytes.byteLength ? new DataView(bytes).getUint32(at, true) : 0;
    const length = frames * piece.sample.channels * 4;
    if (bytes && frames > 0) {
      send(piece, bytes.slice(at + 4, at + 4 + length), true, pool);
      slabs?.came(piece.run, "head", performance.now());
    } else slabs?.failed(piece.run, "head", performance.now());
    at += 4 + length;
  }
  return bytes !== undefined;
}

function tell(): void {
  if (slabs) postMessage(slabs.progress());
}

/** What is wanted is fetched beside all else, several at once. */
function hurry(): void {
  while (slabs && pool && wanted < MOST_WANTED) {
    const run = slabs.nextWanted(performance.now());
    if (!run) return;
    wanted += 1;
    void one(run, "wanted", pool).finally(() => {
      wanted -= 1;
      hurry();
    });
  }
}

/** Heads, and then the rest, one request after another. */
async function goOn(): Promise<void> {
  if (calm) return;
  calm = true;
  while (slabs && pool) {
    const runs = slabs.nextHeads(HEADS_AT_ONCE);
    const rest = runs.length > 0 ? undefined : slabs.nextRest();
    if (runs.length > 0) {
      const answered = await heads(runs, pool);
      tell();
      if (!answered) await new Promise((resolve) => setTimeout(resolve, PAUSE_MS));
    } else if (rest) await one(rest, "rest", pool);
    else break;
  }
  calm = false;
}

function begin(): void {
  if (!slabs || !load) return;
  slabs.load(load);
  load = undefined;
  tell();
  void goOn();
}

onmessage = (event: MessageEvent<LoadWish>) => {
  const wish = event.data;
  if (wish.port) {
    port = wish.port;
    port.onmessage = (event: MessageEvent<ToLoader>) => {
      if ("pool" in event.data) {
        pool = event.data.pool;
        slabs = new Slabs(pool);
        begin();
      } else {
        slabs?.want(event.data.wants, performance.now());
        hurry();
      }
    };
  }
  if (wish.load) {
    load = wish.load.samples;
    begin();
  }
};
