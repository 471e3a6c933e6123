// What lies in the folder of a page that plays, as `work::page` writes it.
import type { Schemas } from "../api/client";
import type { Playable } from "../sound/home";
import type { Wanted } from "../sound/slabs";

/** How a sample is cut into files, in frames: the first, each after it, and what each has of the next beside its own. */
export interface Cut {
  first: number;
  next: number;
  more: number;
}

export interface Listed {
  name: string;
  bank: number;
  number: number;
  credits: string;
  licence: string;
  face: string;
  program: string;
}

export interface Contents {
  cut: Cut;
  bits: number;
  effects: Schemas["EffectView"][];
  instruments: Listed[];
}

export interface Heard {
  id: number;
  frames: number;
  channels: number;
  audio: string;
  bytes: number;
}

export interface Face extends Pick<Playable, "panel" | "program"> {
  samples: Heard[];
  pictures: Record<string, string>;
}

/** A sample that lies in files here. */
export interface FromFiles extends Wanted {
  /** Its files' address, without number and ending. */
  audio: string;
  cut: Cut;
}

/** One file of a sample, and the frames that it alone has. */
export interface OneFile {
  url: string;
  first: number;
  end: number;
}

/** The files that hold frames `first` up to `end` of a sample. */
export function filesOf({ audio, frames, cut }: Pick<FromFiles, "audio" | "frames" | "cut">, first = 0, end = frames): OneFile[] {
  const files: OneFile[] = [];
  for (let n = 0, at = 0; at < Math.min(frames, end); n++) {
    const until = at + (n === 0 ? cut.first : cut.next);
    if (until > first) files.push({ url: `${audio}-${n}.flac`, first: at, end: Math.min(frames, until) });
    at = until;
  }
  return files;
}

async function read(url: string): Promise<Response> {
  const response = await fetch(url).catch(() => undefined);
  if (!response?.ok)
    throw new Error("Part of this instrument cannot be fetched just now: look whether you are connected, and load the page again.");
  return response;
}

export const json = async <T>(url: string): Promise<T> => (await (await read(url)).json()) as T;
export const bytes = async (url: string): Promise<ArrayBuffer> => (await read(url)).arrayBuffer();

/** Where audio is kept that was fetched: per folder, whatever version of the page. */
export const audioCache = (folder: string) => `${folder} audio`;
