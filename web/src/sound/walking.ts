// A walk that goes: keys one after another, held for a while, until one stands out.
import { create } from "zustand";
import { chordOn, type KeySound, type Station } from "../model/walk";
import { sayError, useView } from "../state/view";
import { player } from "./player";

/** How long a key is held, and from one to the next. */
const PACES = { slow: [1_400, 1_700], even: [600, 750], quick: [260, 330] } as const;
export type Pace = keyof typeof PACES;

interface Walking {
  /** Where on its way it is, and whether it began there. */
  at: number;
  begun: boolean;
  goes: boolean;
  pace: Pace;
  chord: boolean;
  /** Whether it stops at what stands out. */
  stops: boolean;
}

export const useWalking = create<Walking>(() => ({ at: 0, begun: false, goes: false, pace: "even", chord: false, stops: true }));

/** Where it goes, along which keys, and where something stands out. */
interface Route {
  all: Station[];
  keys: KeySound[];
  halts: (station: Station, before: Station | undefined) => boolean;
}

let route: Route = { all: [], keys: [], halts: () => false };
let timers: ReturnType<typeof setTimeout>[] = [];
let held: number[] = [];

/** What it goes by from its next key on. */
export function follow(next: Route): void {
  route = next;
}

function lift(): void {
  timers.forEach(clearTimeout);
  timers = [];
  held.forEach((key) => player.off(key));
  held = [];
}

function sound({ key, strike }: Station): void {
  const { chord, pace } = useWalking.getState();
  const keys = chord ? chordOn(key, route.keys) : [key];
  held = keys;
  for (const one of keys) void player.on(one, strike).catch(sayError);
  const { look, low, keys: seen, setWalked } = useView.getState();
  if (key < low || key >= low + seen) look(key - Math.floor(seen / 2), seen);
  setWalked({ key, strike });
  timers.push(
    setTimeout(() => {
      keys.forEach((one) => player.off(one));
      held = [];
    }, PACES[pace][0]),
  );
}

/** The key at a place; the next follows by itself while it goes, unless this one stands out. */
function go(place: number, on: boolean): void {
  lift();
  const station = route.all[place];
  if (!station) {
    useWalking.setState({ goes: false });
    return;
  }
  const { stops, pace } = useWalking.getState();
  const goes = on && place + 1 < route.all.length && !(stops && route.halts(station, route.all[place - 1]));
  useWalking.setState({ at: place, begun: true, goes });
  sound(station);
  if (goes) timers.push(setTimeout(() => go(place + 1, true), PACES[pace][1]));
}

/** Goes on from where it is, or stops. */
export function toggle(): void {
  const { goes, begun, at } = useWalking.getState();
  if (goes) {
    lift();
    useWalking.setState({ goes: false });
  } else go(!begun || at + 1 >= route.all.length ? 0 : at + 1, true);
}

/** One key further along its way, or back. */
export function step(by: 1 | -1): void {
  const { at, begun } = useWalking.getState();
  go(begun ? Math.min(route.all.length - 1, Math.max(0, at + by)) : 0, false);
}

/** Stands at its beginning, silent. */
export function rewind(): void {
  lift();
  useWalking.setState({ at: 0, begun: false, goes: false });
  useView.getState().setWalked(undefined);
}
