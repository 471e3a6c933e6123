// Fetches a program's audio off the page's thread: what voices want first, then heads, then the rest where it fits the engine's budget.
// How it is fetched, its home knows.
import type { ToEngine } from "./worklet";
import { type Pool, type Run, Slabs, type Want, type Wanted } from "./slabs";

export interface LoadWish {
  port?: MessagePort;
  /** Another program, or the same one edited. */
  load?: { samples: Wanted[] };
}

/** What the engine tells the loader. */
export type ToLoader = { pool: Pool } | { wants: Want[] };

/** Frames of a sample that are to be fetched. */
export interface Piece<T extends Wanted> {
  run: Run;
  sample: T;
  first: number;
  end: number;
}

export interface Fetching<T extends Wanted> {
  /** Frames of one, all channels of one after another, as 32-bit floats; nothing where they cannot be had. */
  one: (piece: Piece<T>, hurried: boolean) => Promise<ArrayBuffer | undefined>;
  /** Heads of several at once, each for itself; nothing where nobody answers. */
  heads: (pieces: Piece<T>[]) => Promise<(ArrayBuffer | undefined)[] | undefined>;
  /** Heads that are asked for at once. */
  headsAtOnce: number;
  /** Whether all the rest is fetched too, where it fits the engine's budget. */
  rest: boolean;
  /** No head is longer than so many frames. */
  mostHeadFrames?: number;
}

/** Requests at once for what voices want. */
const MOST_WANTED = 4;
/** A message to the engine is at most so long. */
const MESSAGE_BYTES = 1 << 16;
/** After a failure. */
const PAUSE_MS = 1_000;

export class Loading<T extends Wanted> {
  private port: MessagePort | undefined;
  private slabs: Slabs<T> | undefined;
  private pool: Pool | undefined;
  private toLoad: T[] | undefined;
  private wanted = 0;
  private calm = false;

  constructor(private readonly fetching: Fetching<T>) {}

  hear(wish: LoadWish): void {
    if (wish.port) {
      this.port = wish.port;
      this.port.onmessage = (event: MessageEvent<ToLoader>) => {
        if ("pool" in event.data) {
          const { pool } = event.data;
          this.pool = pool;
          this.slabs = new Slabs(pool, this.fetching.mostHeadFrames);
          this.begin();
        } else {
          this.slabs?.want(event.data.wants, performance.now());
          this.hurry();
        }
      };
    }
    if (wish.load) {
      this.toLoad = wish.load.samples as T[];
      this.begin();
    }
  }

  private pieceOf(run: Run, pool: Pool): Piece<T> | undefined {
    const sample = this.slabs?.sample(run.sample);
    if (!sample) return undefined;
    const first = run.first * pool.slabFrames;
    return { run, sample, first, end: Math.min(sample.frames, run.end * pool.slabFrames + pool.marginFrames) };
  }

  /** To the engine, in messages of whole slabs with what follows them. */
  private send(piece: Piece<T>, bytes: ArrayBuffer, head: boolean, pool: Pool): void {
    const perFrame = piece.sample.channels * 4;
    const atOnce = Math.max(1, Math.floor((MESSAGE_BYTES / perFrame - pool.marginFrames) / pool.slabFrames));
    for (let slab = piece.run.first; slab < piece.run.end; slab += atOnce) {
      const from = (slab - piece.run.first) * pool.slabFrames * perFrame;
      const slabsSent = Math.min(atOnce, piece.run.end - slab);
      const until = Math.min(bytes.byteLength, from + (slabsSent * pool.slabFrames + pool.marginFrames) * perFrame);
      if (from >= until) return;
      const data = bytes.slice(from, until);
      const { id, channels } = piece.sample;
      this.port?.postMessage({ type: "audio", sample: id, channels, slab, slabs: slabsSent, head, data } satisfies ToEngine, [data]);
    }
  }

  private isWhole({ sample, first, end }: Piece<T>, bytes: ArrayBuffer | undefined): bytes is ArrayBuffer {
    return bytes?.byteLength === (end - first) * sample.channels * 4;
  }

  private async one(run: Run, as: "rest" | "wanted", pool: Pool): Promise<void> {
    const piece = this.pieceOf(run, pool);
    const bytes = piece && (await this.fetching.one(piece, as === "wanted").catch(() => undefined));
    if (!piece || !this.isWhole(piece, bytes)) return this.slabs?.failed(run, as, performance.now());
    this.send(piece, bytes, false, pool);
    this.slabs?.came(run, as, performance.now());
  }

  private async heads(runs: Run[], pool: Pool): Promise<boolean> {
    const pieces = runs.map((run) => this.pieceOf(run, pool)).filter((piece) => piece !== undefined);
    const all = await this.fetching.heads(pieces).catch(() => undefined);
    pieces.forEach((piece, n) => {
      const bytes = all?.[n];
      if (this.isWhole(piece, bytes)) {
        this.send(piece, bytes, true, pool);
        this.slabs?.came(piece.run, "head", performance.now());
      } else this.slabs?.failed(piece.run, "head", performance.now());
    });
    return all !== undefined;
  }

  private tell(): void {
    if (this.slabs) postMessage(this.slabs.progress());
  }

  /** What is wanted is fetched beside all else, several at once. */
  private hurry(): void {
    while (this.slabs && this.pool && this.wanted < MOST_WANTED) {
      const run = this.slabs.nextWanted(performance.now());
      if (!run) return;
      this.wanted += 1;
      void this.one(run, "wanted", this.pool).finally(() => {
        this.wanted -= 1;
        this.hurry();
      });
    }
  }

  /** Heads, and then the rest, one request after another. */
  private async goOn(): Promise<void> {
    if (this.calm) return;
    this.calm = true;
    while (this.slabs && this.pool) {
      const runs = this.slabs.nextHeads(this.fetching.headsAtOnce);
      const rest = runs.length > 0 || !this.fetching.rest ? undefined : this.slabs.nextRest();
      if (runs.length > 0) {
        const answered = await this.heads(runs, this.pool);
        this.tell();
        if (!answered) await new Promise((resolve) => setTimeout(resolve, PAUSE_MS));
      } else if (rest) await this.one(rest, "rest", this.pool);
      else break;
    }
    this.calm = false;
  }

  private begin(): void {
    if (!this.slabs || !this.toLoad) return;
    this.slabs.load(this.toLoad);
    this.toLoad = undefined;
    this.tell();
    void this.goOn();
  }
}
