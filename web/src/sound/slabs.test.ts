import { describe, expect, it } from "vitest";
import { type Pool, Slabs, type Wanted } from "./slabs";

const POOL: Pool = { slabFrames: 1024, marginFrames: 96, most: 1000 };

function sample(id: number, slabs: number, starts = [0], channels = 2): Wanted {
  return { id, frames: slabs * 1024, channels, starts };
}

const names = (runs: { sample: number; first: number; end: number }[]) => runs.map((run) => `${run.sample}: ${run.first}-${run.end}`);

describe("what is fetched", () => {
  it("heads come first, as long as there is room in half of the pool, and then the rest where all fits", () => {
    const slabs = new Slabs(POOL);
    slabs.load([sample(1, 100), sample(2, 40, [0, 5000])]);
    expect(slabs.progress()).toEqual({ heads: 0, of: 2 });
    const heads = slabs.nextHeads(8);
    expect(names(heads)).toEqual(["1: 0-32", "2: 0-32", "2: 4-36"]);
    heads.forEach((run) => slabs.came(run, "head", 0));
    expect(slabs.progress()).toEqual({ heads: 2, of: 2 });
    const rest: string[] = [];
    for (let run = slabs.nextRest(); run; run = slabs.nextRest()) {
      rest.push(...names([run]));
      slabs.came(run, "rest", 0);
    }
    expect(rest).toEqual(["1: 0-64", "1: 64-100", "2: 0-40"]);
    // An edit that keeps the samples fetches nothing again; one that adds a sample fetches that.
    slabs.load([sample(1, 100), sample(2, 40, [0, 5000]), sample(3, 2)]);
    expect(names(slabs.nextHeads(8))).toEqual(["3: 0-2"]);
    expect(names([slabs.nextRest()!])).toEqual(["3: 0-2"]);
    expect(slabs.nextRest()).toBeUndefined();
  });

  it("a library that does not fit has short heads, as many as half of the pool holds, and no rest", () => {
    const slabs = new Slabs(POOL);
    slabs.load(Array.from({ length: 300 }, (_, n) => sample(n, 400)));
    const heads = slabs.nextHeads(1000);
    expect(heads.length).toBe(83);
    expect(heads.every(({ first, end }) => first === 0 && end === 3)).toBe(true);
    heads.forEach((run, n) => (n === 5 ? slabs.failed(run, "head", 0) : slabs.came(run, "head", 0)));
    expect(slabs.progress()).toEqual({ heads: 299, of: 300 });
    expect(slabs.nextRest()).toBeUndefined();
  });

  it("what is most urgent comes first, once while it is on its way, and again where it is asked for later", () => {
    const slabs = new Slabs(POOL);
    slabs.load([sample(1, 400), sample(2, 400), sample(3, 400)]);
    slabs.want(
      [
        { sample: 1, first: 30, end: 46, within: 0.4 },
        { sample: 2, first: 3, end: 19, within: 0.02 },
        { sample: 9, first: 0, end: 16, within: 0 },
      ],
      0,
    );
    const first = slabs.nextWanted(1)!;
    expect(names([first])).toEqual(["2: 3-19"]);
    slabs.want([{ sample: 2, first: 3, end: 19, within: 0.01 }], 5);
    const second = slabs.nextWanted(6)!;
    expect(names([second])).toEqual(["1: 30-46"]);
    expect(slabs.nextWanted(7)).toBeUndefined();
    slabs.came(first, "wanted", 10);
    slabs.want([{ sample: 2, first: 3, end: 19, within: 0.01 }], 12);
    expect(slabs.nextWanted(13)).toBeUndefined();
    // It had to give way meanwhile.
    slabs.want([{ sample: 2, first: 3, end: 19, within: 0.01 }], 500);
    expect(names([slabs.nextWanted(501)!])).toEqual(["2: 3-19"]);
    // One that failed is asked for again after a second; one that is old is not.
    slabs.failed(second, "wanted", 510);
    slabs.want([{ sample: 1, first: 30, end: 46, within: 0.1 }], 520);
    expect(slabs.nextWanted(521)).toBeUndefined();
    slabs.want([{ sample: 3, first: 0, end: 16, within: 0.2 }], 1100);
    slabs.want([{ sample: 1, first: 30, end: 46, within: 0.1 }], 1520);
    expect(names([slabs.nextWanted(1521)!])).toEqual(["1: 30-46"]);
    expect(slabs.nextWanted(1522)).toBeUndefined();
  });
});
