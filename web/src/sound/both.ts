// Two sounds of the same, heard in the same place: one of both, and the other by one key.
import { create } from "zustand";
import { equallyLoud } from "../model/beside";
import { player } from "./player";

/** A sound of the server, and which stretch of it goes round, in its own seconds. */
export interface Side {
  name: string;
  url: string;
  rate: number;
  channels: number;
  from: number;
  to: number;
  /** How much faster it is played than it was recorded. */
  pace?: number;
}

export interface Pair {
  sides: [Side, Side];
  /** How much louder the first is, as heard. */
  louderDb: number;
}

interface Both {
  plays: boolean;
  /** Whose both are heard, or were last: keys are meant for it. */
  owner: string | undefined;
  /** Which is heard. */
  heard: 0 | 1;
  /** While it is blind nobody is told which is which: whether the first button is the second sound. */
  blind: { crossed: boolean } | undefined;
  /** Whether both are as loud as each other. */
  even: boolean;
}

export const useBoth = create<Both>(() => ({ plays: false, owner: undefined, heard: 0, blind: undefined, even: true }));

/** What was heard last is at hand, by where it came from. */
let last: { names: string; buffers: [AudioBuffer, AudioBuffer] } | undefined;

async function sounds({ sides }: Pair): Promise<[AudioBuffer, AudioBuffer]> {
  const names = sides.map(({ url }) => url).join(" ");
  if (last?.names === names) return last.buffers;
  const [one, other] = await Promise.all([player.fetched(sides[0]), player.fetched(sides[1])]);
  if (!one || !other) throw new Error("One of both is empty: there is nothing to hear.");
  last = { names, buffers: [one, other] };
  return last.buffers;
}

/** Plays both round and round, for one place of the page. */
export async function playBoth(pair: Pair, owner: string): Promise<void> {
  useBoth.setState({ plays: true, owner });
  try {
    const buffers = await sounds(pair);
    const { plays, even, heard } = useBoth.getState();
    if (!plays) return;
    const gains = even ? equallyLoud(pair.louderDb) : ([1, 1] as const);
    const all = pair.sides.map(({ from, to, pace = 1 }, n) => ({ buffer: buffers[n]!, from, to, pace, gain: gains[n]! }));
    await player.together(all, heard);
  } catch (error) {
    useBoth.setState({ plays: false });
    throw error;
  }
}

/** Ends them; they belong to nobody any more where their place has gone. */
export function stopBoth(gone?: string): void {
  const { owner } = useBoth.getState();
  if (gone !== undefined && gone !== owner) return;
  useBoth.setState({ plays: false, owner: gone === undefined ? owner : undefined });
  void player.together(undefined, 0);
}

export function hearOther(which?: 0 | 1): void {
  const heard = which ?? (useBoth.getState().heard === 0 ? 1 : 0);
  useBoth.setState({ heard });
  player.other(heard);
}

/** From now on nobody is told which is which, or everybody is. */
export function setBlind(blind: boolean): void {
  useBoth.setState({ blind: blind ? { crossed: Math.random() < 0.5 } : undefined });
}
