// Instruments that lie in files beside the page.
import { create } from "zustand";
import type { ForEngine, Home, Playable } from "../sound/home";
import { sayError } from "../state/view";
import { bytes, type Contents, type Face, type FromFiles, json } from "./contents";
import type { FolderWish } from "./loader";

/** Where the page lies. */
export const FOLDER = new URL(".", document.baseURI).href;

interface Folder {
  contents: Contents | undefined;
  /** Which is played, by its place in the list. */
  place: number;
  view: (Playable & { pictures: Face["pictures"] }) | undefined;
  face: Face | undefined;
}

export const useFolder = create<Folder>(() => ({ contents: undefined, place: 0, view: undefined, face: undefined }));

/** Reads the list, and the instrument that the address names, or the first. */
export async function open(): Promise<void> {
  const contents = await json<Contents>("instruments.json");
  useFolder.setState({ contents });
  await choose(Math.min(contents.instruments.length - 1, Math.max(0, (Number(location.hash.slice(1)) || 1) - 1)));
}

let wanted = 0;

/** Plays another one of the list; of several that are chosen in a row, the last. */
export async function choose(place: number): Promise<void> {
  const listed = useFolder.getState().contents?.instruments[place];
  if (!listed) return;
  wanted = place;
  const face = await json<Face>(listed.face);
  if (wanted !== place) return;
  const { program, panel, pictures } = face;
  useFolder.setState({ place, face, view: { id: place, name: listed.name, program, panel, pictures } });
  document.title = listed.name;
  history.replaceState(undefined, "", place === 0 ? location.pathname + location.search : `#${place + 1}`);
}

async function programOf(id: number): Promise<ArrayBuffer | undefined> {
  const listed = useFolder.getState().contents?.instruments[id];
  return listed && bytes(listed.program);
}

async function bring({ id }: Playable): Promise<ForEngine | undefined> {
  const { contents, face } = useFolder.getState();
  const program = await programOf(id);
  if (!program || !contents || !face) return undefined;
  const samples = face.samples.map(({ id, frames, channels, audio }): FromFiles => ({
    id,
    frames,
    channels,
    starts: [0],
    audio: new URL(audio, FOLDER).href,
    cut: contents.cut,
  }));
  return { bytes: program, samples };
}

/** The instrument that has a program's number, in its bank; of one alone, none: its kept values have numbers. */
function program(number: number, bank: number): boolean {
  const instruments = useFolder.getState().contents?.instruments ?? [];
  if (instruments.length < 2) return false;
  const place = instruments.findIndex((one) => one.number === number - 1 && one.bank === bank);
  if (place >= 0) void choose(place).catch(sayError);
  return true;
}

export const folder: Home = {
  engine: "engine.wasm",
  loader: () => {
    const worker = new Worker(new URL("./loader.ts", import.meta.url), { type: "module" });
    const { cut } = useFolder.getState().contents!;
    worker.postMessage({ folder: { url: FOLDER, cut } } satisfies FolderWish);
    return worker;
  },
  programOf,
  bring,
  program,
};
