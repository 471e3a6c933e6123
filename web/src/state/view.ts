// What is chosen and what part of the ladder is in view.
import { create } from "zustand";
import type { Format } from "../model/formats";

/** What is heard of a key. */
export type HeardWhat = "level_dbfs" | "cents" | "brightness_key";

interface View {
  /** The instrument that all of this is of. */
  instrument: number | undefined;
  /** The cell on the bench. */
  focus: string | undefined;
  /** Cells that an edit is done to. */
  chosen: Set<string>;
  /** Lowest key in view, and how many. */
  low: number;
  keys: number;
  /** The pass on the board. */
  pass: number;
  /** While rungs are picked on the ladder: what a click on a key does. */
  pick: ((key: number) => void) | undefined;
  playKeys: boolean;
  /** The key that was struck last is the chosen cell. */
  choosePlayed: boolean;
  /** Takes are heard as they were recorded, not as they are treated. */
  raw: boolean;
  /** Keys play what this format will hold; the whole where there is none. */
  heardAs: Format | undefined;
  /** Keys play what sounded in this edition. */
  heardEdition: { id: number; number: number } | undefined;
  /** What Trim shows below its waveform, and beside the board. */
  panel: "trim" | "clean" | "make";
  /** Which of both Clean plots beside the board. */
  sides: "balance" | "likeness";
  /** Waveforms show left and right apart. */
  apart: boolean;
  toast: string | undefined;
  /** The finding that is looked at, by its name. */
  finding: number | undefined;
  /** Keys play without effects. */
  dry: boolean;
  /** What of keys as they are heard stands beside the board, in Check. */
  heardWhat: HeardWhat;
  /** The key that a walk along them is at. */
  walked: { key: number; strike: number } | undefined;
  setInstrument: (instrument: number) => void;
  choose: (focus: string | undefined, chosen: Set<string>) => void;
  look: (low: number, keys: number) => void;
  setPass: (pass: number) => void;
  setPick: (pick: ((key: number) => void) | undefined) => void;
  setPlayKeys: (on: boolean) => void;
  setChoosePlayed: (on: boolean) => void;
  setRaw: (raw: boolean) => void;
  setHeardAs: (format: Format | undefined) => void;
  setHeardEdition: (edition: View["heardEdition"]) => void;
  setPanel: (panel: View["panel"]) => void;
  setSides: (sides: View["sides"]) => void;
  setApart: (apart: boolean) => void;
  say: (toast: string | undefined) => void;
  setFinding: (finding: number | undefined) => void;
  setDry: (dry: boolean) => void;
  setHeardWhat: (what: HeardWhat) => void;
  setWalked: (walked: View["walked"]) => void;
}

export const useView = create<View>((set) => ({
  instrument: undefined,
  focus: undefined,
  chosen: new Set(),
  low: 30,
  keys: 61,
  pass: 0,
  pick: undefined,
  playKeys: false,
  choosePlayed: false,
  raw: false,
  heardAs: undefined,
  heardEdition: undefined,
  panel: "trim",
  sides: "balance",
  apart: false,
  toast: undefined,
  finding: undefined,
  dry: false,
  heardWhat: "level_dbfs",
  walked: undefined,
  setInstrument: (instrument) => set({ instrument, heardEdition: undefined, finding: undefined, dry: false, walked: undefined }),
  choose: (focus, chosen) => set({ focus, chosen }),
  look: (low, keys) => {
    const count = Math.min(128, Math.max(12, keys));
    set({ keys: count, low: Math.min(128 - count, Math.max(0, low)) });
  },
  setPass: (pass) => set({ pass, focus: undefined, chosen: new Set() }),
  setPick: (pick) => set({ pick }),
  setPlayKeys: (playKeys) => set({ playKeys }),
  setChoosePlayed: (choosePlayed) => set({ choosePlayed }),
  setRaw: (raw) => set({ raw }),
  setHeardAs: (heardAs) => set({ heardAs }),
  setHeardEdition: (heardEdition) => set({ heardEdition }),
  setPanel: (panel) => set({ panel }),
  setSides: (sides) => set({ sides }),
  setApart: (apart) => set({ apart }),
  say: (toast) => set({ toast }),
  setFinding: (finding) => set({ finding }),
  setDry: (dry) => set({ dry }),
  setHeardWhat: (heardWhat) => set({ heardWhat }),
  setWalked: (walked) => set({ walked }),
}));

/** Says what went wrong, in the server's words. */
export function sayError(error: unknown): void {
  useView.getState().say(error instanceof Error ? error.message : String(error));
}
