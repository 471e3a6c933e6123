// Instruments that others made, and packed files: sent as a set, to be gone through before anything of it is taken in.
import { answer, api } from "../api/client";
import { audioAmong, type Cancel, send } from "./sending";

/** For a file chooser. */
export const ACCEPT_SETS = ".sfz,.sf2,.zip";
const SET = /\.(sfz|sf2|zip)$/i;
/** What an SFZ includes is text, and no longer. */
const LONGEST_TEXT_BYTES = 1 << 20;

/** Whether there is something among these that is gone through first. */
export function hasSet(files: File[]): boolean {
  return files.some((file) => SET.test(file.name));
}

function nameOf(file: File): string {
  return file.webkitRelativePath || file.name;
}

/** Those that belong to what is gone through: instruments, audio, and what they may include. */
export function ofSet(files: File[]): File[] {
  const audio = new Set(audioAmong(files));
  const hidden = (file: File) =>
    nameOf(file)
      .split("/")
      .some((part) => part.startsWith(".") || part === "__MACOSX");
  return files.filter((file) => !hidden(file) && (SET.test(file.name) || audio.has(file) || file.size <= LONGEST_TEXT_BYTES));
}

/** Sends them; the name of the set, and what was said of those that were refused. */
export async function sendSet(files: File[], going: (done: number, of: number) => void, cancel: Cancel) {
  const { id } = answer(await api.POST("/api/brought"));
  const wanted = ofSet(files);
  const refused: string[] = [];
  for (const [n, file] of wanted.entries()) {
    if (cancel.stop) break;
    // One large file counts by how much of it has gone.
    const told = (share: number) => going(n + share, wanted.length);
    told(0);
    await send(`/api/brought/${id}/files?name=${encodeURIComponent(nameOf(file))}`, file, told, cancel).catch((error: unknown) =>
      refused.push(error instanceof Error ? error.message : String(error)),
    );
  }
  if (cancel.stop) {
    await api.DELETE("/api/brought/{set}", { params: { path: { set: id } } });
    return { id: undefined, refused };
  }
  return { id, refused };
}
