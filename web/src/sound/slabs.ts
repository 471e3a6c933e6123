// Which audio is fetched next: heads of all samples, what voices want, and all the rest where it fits. Without I/O, so that it can be tested.

/** How the engine keeps audio. */
export interface Pool {
  /** Frames from one slab to the next, and frames that a slab has of the next. */
  slabFrames: number;
  marginFrames: number;
  /** Slabs of one channel that there can be. */
  most: number;
}

export interface Wanted {
  /** Its name for good. */
  id: number;
  frames: number;
  /** That arrive. */
  channels: number;
  /** Where keys begin with it. */
  starts: number[];
}

/** A run of slabs of a sample, its end not included. */
export interface Run {
  sample: number;
  first: number;
  end: number;
}

/** What a voice will need: so soon, in seconds. */
export interface Want extends Run {
  within: number;
}

/** No head is shorter, where keys begin within a slab and sound higher than they were recorded. */
const LEAST_HEAD_SLABS = 3;
/** None is longer: two thirds of a second at 48 kHz. */
const MOST_HEAD_SLABS = 32;
/** Slabs that are fetched at once where there is no hurry. */
const REST_SLABS = 64;
/** A program that takes no more of the pool is fetched whole: seams of loops are in there too. */
const FITS = 0.9;
/** A want that was not repeated for so long is forgotten. */
const WANT_LASTS_MS = 300;
/** What has just come is not fetched again: the engine may not have seen it when it asked. */
const JUST_COME_MS = 150;
/** Nor what could not be had. */
const FAILED_MS = 1_000;

export class Slabs<T extends Wanted> {
  private samples = new Map<number, T>();
  /** Heads that are to come, and those that were sent. */
  private heads: Run[] = [];
  private headed = new Set<string>();
  /** Of each sample, up to which slab the rest was asked for, where everything fits. */
  private filled = new Map<number, number>();
  private rest: number[] = [];
  private wants = new Map<string, Want & { at: number }>();
  /** On their way, come a moment ago, or failed a while ago: not to be asked for until then. */
  private coming: (Run & { until: number })[] = [];
  /** Samples whose heads did not come. */
  private headless = new Set<number>();

  /** No head is longer than so many frames, where that is said. */
  constructor(
    private readonly pool: Pool,
    private readonly mostHeadFrames = Infinity,
  ) {}

  private slabsOf(sample: T): number {
    return Math.ceil(sample.frames / this.pool.slabFrames);
  }

  sample(id: number): T | undefined {
    return this.samples.get(id);
  }

  /** Another program, or the same one edited: what the engine has of samples that stay is not fetched again. */
  load(samples: T[]): void {
    this.samples = new Map(samples.map((sample) => [sample.id, sample]));
    const whole = samples.reduce((sum, sample) => sum + this.slabsOf(sample) * sample.channels, 0);
    const heads = samples.reduce((sum, sample) => sum + Math.max(1, sample.starts.length) * sample.channels, 0);
    const most = Math.min(MOST_HEAD_SLABS, Math.max(1, Math.floor(this.mostHeadFrames / this.pool.slabFrames)));
    const length = Math.min(most, Math.max(LEAST_HEAD_SLABS, Math.floor(this.pool.most / 2 / Math.max(1, heads))));
    this.heads = [];
    let room = this.pool.most / 2;
    for (const sample of samples) {
      for (const start of sample.starts) {
        const first = Math.floor(start / this.pool.slabFrames);
        const end = Math.min(first + length, this.slabsOf(sample));
        if (end <= first) continue;
        room -= (end - first) * sample.channels;
        if (room < 0) break;
        if (!this.headed.has(`${sample.id}:${first}`)) this.heads.push({ sample: sample.id, first, end });
      }
    }
    this.rest = whole <= FITS * this.pool.most ? samples.map(({ id }) => id) : [];
    this.wants.clear();
  }

  /** Samples whose heads were sent, and how many there are. */
  progress(): { heads: number; of: number } {
    const waiting = new Set(this.heads.map(({ sample }) => sample));
    for (const run of this.coming) if (run.until === Infinity && !this.headed.has(`${run.sample}:${run.first}`)) waiting.add(run.sample);
    for (const id of this.headless) if (this.samples.has(id)) waiting.add(id);
    return { heads: this.samples.size - waiting.size, of: this.samples.size };
  }

  /** What voices want now. */
  want(wants: Want[], now: number): void {
    for (const want of wants) this.wants.set(`${want.sample}:${want.first}`, { ...want, at: now });
  }

  private isComing(run: Run): boolean {
    return this.coming.some((other) => other.sample === run.sample && other.first <= run.first && run.first < other.end);
  }

  private begin(run: Run): Run {
    this.coming.push({ ...run, until: Infinity });
    return run;
  }

  /** The most urgent of what is wanted and not on its way. */
  nextWanted(now: number): Run | undefined {
    this.coming = this.coming.filter(({ until }) => now < until);
    let next: (Want & { at: number }) | undefined;
    for (const [name, want] of this.wants) {
      if (now - want.at > WANT_LASTS_MS || this.isComing(want) || !this.samples.has(want.sample)) this.wants.delete(name);
      else if (!next || want.within < next.within) next = want;
    }
    if (!next) return undefined;
    this.wants.delete(`${next.sample}:${next.first}`);
    return this.begin({ sample: next.sample, first: next.first, end: next.end });
  }

  /** The next heads, so many at most. */
  nextHeads(most: number): Run[] {
    return this.heads.splice(0, most).map((run) => this.begin(run));
  }

  /** The next of the rest, where everything fits. */
  nextRest(): Run | undefined {
    while (this.rest.length > 0) {
      const id = this.rest[0]!;
      const sample = this.samples.get(id);
      const first = this.filled.get(id) ?? 0;
      const end = sample ? Math.min(first + REST_SLABS, this.slabsOf(sample)) : 0;
      if (first < end) {
        this.filled.set(id, end);
        return this.begin({ sample: id, first, end });
      }
      this.rest.shift();
    }
    return undefined;
  }

  /** It was sent to the engine. */
  came(run: Run, as: "head" | "rest" | "wanted", now: number): void {
    this.end(run, now + JUST_COME_MS);
    this.headless.delete(run.sample);
    if (as === "head") this.headed.add(`${run.sample}:${run.first}`);
  }

  /** It did not come: what is wanted is asked for again after a while, the rest of that sample is left. */
  failed(run: Run, as: "head" | "rest" | "wanted", now: number): void {
    this.end(run, now + FAILED_MS);
    if (as === "head") this.headless.add(run.sample);
    if (as === "rest") this.rest = this.rest.filter((id) => id !== run.sample);
  }

  private end(run: Run, until: number): void {
    for (const other of this.coming)
      if (other.sample === run.sample && other.first === run.first && other.end === run.end) other.until = until;
  }
}
