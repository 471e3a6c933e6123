// Files on their way to the server: found among what was dropped, sent one after another, and how far that is.
import { useRef, useState } from "react";

/** For a file chooser. */
export const ACCEPT = "audio/*,.wav,.aif,.aiff,.flac,.ogg,.mp3";
const AUDIO = /\.(wav|wave|aif|aiff|aifc|flac|ogg|oga|mp3)$/i;

/** A sending that can be stopped. */
export interface Cancel {
  stop?: boolean;
  request?: XMLHttpRequest;
}

/** All files of what was dropped, those of folders with their folder in the name. */
export async function filesOf(items: DataTransferItemList): Promise<File[]> {
  const files: File[] = [];
  const walk = async (entry: FileSystemEntry, path: string): Promise<void> => {
    if (entry.isFile) {
      const file = await new Promise<File>((done, failed) => (entry as FileSystemFileEntry).file(done, failed));
      files.push(new File([file], path + file.name, { type: file.type }));
      return;
    }
    const reader = (entry as FileSystemDirectoryEntry).createReader();
    for (;;) {
      const some = await new Promise<FileSystemEntry[]>((done, failed) => reader.readEntries(done, failed));
      if (some.length === 0) return;
      for (const child of some) await walk(child, `${path}${entry.name}/`);
    }
  };
  // All at once: what is dropped is gone at the first wait.
  const dropped = [...items].map((item) => ({ entry: item.webkitGetAsEntry(), file: item.getAsFile() }));
  for (const { entry, file } of dropped) {
    if (entry) await walk(entry, "");
    else if (file) files.push(file);
  }
  return files;
}

/** Those that are audio, by name. */
export function audioAmong(files: File[]): File[] {
  return files.filter((file) => AUDIO.test(file.name)).sort((a, b) => a.name.localeCompare(b.name));
}

/** Sends one; gives what was made of it. */
export function send(url: string, file: File, share: (share: number) => void, cancel: Cancel): Promise<{ id: number }> {
  return new Promise((done, failed) => {
    const request = new XMLHttpRequest();
    cancel.request = request;
    request.upload.onprogress = (event) => share(event.lengthComputable ? event.loaded / event.total : 0);
    request.onload = () => {
      const answer = (() => {
        try {
          return JSON.parse(request.responseText) as { id: number; detail?: string };
        } catch {
          return undefined;
        }
      })();
      if (request.status < 300) return done(answer ?? { id: 0 });
      failed(new Error(answer?.detail ?? `«${file.name}» could not be read.`));
    };
    request.onerror = () => failed(new Error(`The line broke while «${file.name}» was sent; what was kept before is safe. Try again.`));
    request.onabort = () => failed(new Error(`«${file.name}» was not sent: cancelled.`));
    request.open("POST", url);
    request.send(file);
  });
}

/** Many files on their way, one after another, and what was said of those that were left aside. */
export function useSending() {
  const [going, setGoing] = useState<{ done: number; of: number } | undefined>();
  const now = useRef<Cancel>({});
  const [refused, setRefused] = useState<string[]>([]);
  const bring = async (instrument: number, files: File[]) => {
    const audio = audioAmong(files);
    const others = files.length - audio.length;
    const aside = others > 0 ? [`${others} other ${others === 1 ? "file was" : "files were"} passed over.`] : [];
    setRefused([...aside]);
    const cancel: Cancel = {};
    now.current = cancel;
    for (const [n, file] of audio.entries()) {
      if (cancel.stop) break;
      setGoing({ done: n, of: audio.length });
      // The folder belongs to the name: dropped folders carry it in the name, chosen ones beside it.
      const name = file.webkitRelativePath || file.name;
      await send(`/api/instruments/${instrument}/files?name=${encodeURIComponent(name)}`, file, () => undefined, cancel).catch(
        (error: unknown) => {
          aside.push(error instanceof Error ? error.message : String(error));
          setRefused([...aside]);
        },
      );
    }
    setGoing(undefined);
    return aside;
  };
  const stop = () => {
    now.current.stop = true;
    now.current.request?.abort();
  };
  return { going, refused, bring, stop };
}
