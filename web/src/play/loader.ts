// Fetches audio from the files beside the page, decodes it, and keeps what was fetched for when there is no line.
import { Loading, type LoadWish, type Piece } from "../sound/loading";
import { audioCache, type Cut, type FromFiles, filesOf, type OneFile } from "./contents";

interface Decoder {
  memory: WebAssembly.Memory;
  room: (bytes: number) => number;
  decode: () => number;
  samples: () => number;
  channels: () => number;
}

/** What the page says first. */
export interface FolderWish extends LoadWish {
  /** Its address, and how samples are cut there. */
  folder?: { url: string; cut: Cut };
}

/** Files that are held decoded: what is wanted of one comes in several requests. */
const MOST_HELD = 24;
const HEADS_AT_ONCE = 3;

let decoder: Promise<Decoder> | undefined;
let cache: Promise<Cache | undefined> | undefined;
const held = new Map<string, Promise<Float32Array>>();

async function decoderOf(folder: string): Promise<Decoder> {
  const bytes = await (await fetch(new URL("flac.wasm", folder))).arrayBuffer();
  return (await WebAssembly.instantiate(bytes)).instance.exports as unknown as Decoder;
}

/** From what was kept, else from the server, and then kept; where nothing can be kept it is heard all the same. */
async function fetched(url: string, priority: RequestPriority): Promise<ArrayBuffer> {
  const kept = await cache;
  const known = await kept?.match(url);
  if (known) return known.arrayBuffer();
  const response = await fetch(url, { priority });
  if (!response.ok) throw new Error(`${response.status}`);
  const copy = response.clone();
  const bytes = await response.arrayBuffer();
  void kept?.put(url, copy).catch(() => undefined);
  return bytes;
}

async function decoded(url: string, priority: RequestPriority): Promise<Float32Array> {
  const file = await fetched(url, priority);
  const of = await decoder!;
  // Its memory may have grown: looked up anew each time.
  const place = of.room(file.byteLength);
  new Uint8Array(of.memory.buffer).set(new Uint8Array(file), place);
  const frames = of.decode();
  if (frames < 0) throw new Error("not FLAC");
  return new Float32Array(of.memory.buffer, of.samples(), frames * of.channels()).slice();
}

function samplesOf({ url }: OneFile, priority: RequestPriority): Promise<Float32Array> {
  const known = held.get(url);
  if (known) return known;
  const coming = decoded(url, priority);
  held.set(url, coming);
  coming.catch(() => held.delete(url));
  if (held.size > MOST_HELD) held.delete(held.keys().next().value!);
  return coming;
}

async function framesOf({ sample, first, end }: Piece<FromFiles>, priority: RequestPriority): Promise<ArrayBuffer> {
  const { channels } = sample;
  const out = new Float32Array((end - first) * channels);
  const { more } = sample.cut;
  // What is asked for beyond the last slab is in its own file, too.
  const files = filesOf(sample, first, Math.max(first + 1, end - more));
  for (const file of files) {
    const samples = await samplesOf(file, priority);
    const from = Math.max(first, file.first);
    const until = Math.min(end, file.first + samples.length / channels);
    out.set(samples.subarray((from - file.first) * channels, (until - file.first) * channels), (from - first) * channels);
  }
  return out.buffer;
}

/** What comes from a folder whose samples are cut so. It may come from far, over a line that is paid for: the rest stays there. */
const loadingOf = (cut: Cut) =>
  new Loading<FromFiles>({
    one: (piece, hurried) => framesOf(piece, hurried ? "high" : "low"),
    heads: async (pieces) => {
      const all = await Promise.allSettled(pieces.map((piece) => framesOf(piece, "auto")));
      // Where none came, nobody answers.
      if (all.every(({ status }) => status === "rejected")) return undefined;
      return all.map((one) => (one.status === "fulfilled" ? one.value : undefined));
    },
    headsAtOnce: HEADS_AT_ONCE,
    rest: false,
    mostHeadFrames: cut.first,
  });

let loading: Loading<FromFiles> | undefined;

onmessage = (event: MessageEvent<FolderWish>) => {
  const { folder } = event.data;
  if (folder) {
    decoder = decoderOf(folder.url);
    cache = "caches" in self ? caches.open(audioCache(folder.url)).catch(() => undefined) : Promise.resolve(undefined);
    loading = loadingOf(folder.cut);
  }
  loading?.hear(event.data);
};
