// A source and what was built of it, heard in the same place: one of both, and the other by one key.
import { create } from "zustand";
import { equallyLoud, stretchOf, type Beside } from "../model/beside";
import { player } from "./player";

export type Which = "source" | "built";

interface Both {
  plays: boolean;
  /** What is heard; where it is blind, behind which name. */
  heard: Which;
  /** While it is blind nobody is told which is which: whether "one" is the source. */
  blind: { oneIsSource: boolean } | undefined;
  /** Whether both are as loud as each other. */
  even: boolean;
}

export const useBoth = create<Both>(() => ({ plays: false, heard: "source", blind: undefined, even: true }));

let last: { name: string; buffers: [AudioBuffer, AudioBuffer] } | undefined;

/** Both sounds; those of what was heard last are at hand. */
async function sounds(id: number, { long_take, of, rate_hz }: Beside, sides: number): Promise<[AudioBuffer, AudioBuffer]> {
  const name = `${id} ${long_take} ${of}`;
  if (last?.name === name) return last.buffers;
  const url = (which: Which) => `/api/instruments/${id}/beside/${long_take}/${which}`;
  const [source, built] = await Promise.all([
    player.fetched({ url: url("source"), rate: rate_hz, channels: sides }),
    player.fetched({ url: url("built"), rate: rate_hz, channels: 2 }),
  ]);
  if (!source || !built) throw new Error("One of both is empty: there is nothing to hear.");
  last = { name, buffers: [source, built] };
  return last.buffers;
}

/** Plays a passage of both round and round, or all of them. */
export async function playBoth(id: number, beside: Beside, sides: number, passage: number | undefined): Promise<void> {
  useBoth.setState({ plays: true });
  try {
    const [source, built] = await sounds(id, beside, sides);
    if (!useBoth.getState().plays) return;
    const { even, heard } = useBoth.getState();
    const stretch = stretchOf(beside, passage);
    const gain = even ? equallyLoud(beside.louder_db) : { source: 1, built: 1 };
    const from = Math.max(0, stretch.source[0]);
    await player.together(
      [
        { buffer: source, from, to: stretch.source[1], gain: gain.source },
        { buffer: built, from: stretch.built[0] + (from - stretch.source[0]), to: stretch.built[1], gain: gain.built },
      ],
      heard === "source" ? 0 : 1,
    );
  } catch (error) {
    useBoth.setState({ plays: false });
    throw error;
  }
}

export function stopBoth(): void {
  useBoth.setState({ plays: false });
  void player.together(undefined, 0);
}

export function hearOther(which?: Which): void {
  const heard = which ?? (useBoth.getState().heard === "source" ? "built" : "source");
  useBoth.setState({ heard });
  player.other(heard === "source" ? 0 : 1);
}

/** From now on nobody is told which is which, or everybody is. */
export function setBlind(blind: boolean): void {
  useBoth.setState({ blind: blind ? { oneIsSource: Math.random() < 0.5 } : undefined });
}
