// Where an instrument that is played lives: on Ladder's server, or in a folder beside the page.
import type { InstrumentView } from "../api/client";
import type { Wanted } from "./slabs";

/** What is played, and what it is played by. */
export type Playable = Pick<InstrumentView, "id" | "name" | "program" | "panel">;

/** For the engine, and for the home's own loader. */
export interface ForEngine {
  bytes: ArrayBuffer;
  samples: Wanted[];
}

export interface Home {
  /** Where the engine lies. */
  engine: string;
  /** A Worker that fetches audio. */
  loader: () => Worker;
  /** An instrument's program as the engine reads it; `undefined` where it is not there. */
  programOf: (id: number) => Promise<ArrayBuffer | undefined>;
  /** The same with its samples; `undefined` where another is wanted by now. */
  bring: (view: Playable) => Promise<ForEngine | undefined>;
  /** Tells when something else is to be heard of the same instrument. */
  watch?: (again: () => void) => void;
  /** A MIDI program change, 1 to 128, in a bank: whether it chose an instrument. */
  program?: (number: number, bank: number) => boolean;
}
