// Keeps audio in the browser, so that it plays offline.
import { create } from "zustand";
import { sayError } from "../state/view";
import { audioCache, type Face, filesOf, json } from "./contents";
import { FOLDER, useFolder } from "./folder";

interface Keeping {
  /** Files of audio that are kept, of how many; unknown until they were counted. */
  kept: number | undefined;
  of: number;
  /** Size of all of them. */
  bytes: number;
  going: boolean;
}

export const useKeeping = create<Keeping>(() => ({ kept: undefined, of: 0, bytes: 0, going: false }));

/** Requests at once. */
const AT_ONCE = 4;

/** Every file of audio of all instruments, and their size. */
async function allFiles(): Promise<{ urls: string[]; bytes: number }> {
  const { contents } = useFolder.getState();
  const urls = new Set<string>();
  const sizes = new Map<string, number>();
  for (const { face } of contents?.instruments ?? [])
    for (const { audio, frames, bytes } of (await json<Face>(face)).samples) {
      sizes.set(audio, bytes);
      for (const { url } of filesOf({ audio: new URL(audio, FOLDER).href, frames, cut: contents!.cut })) urls.add(url);
    }
  return { urls: [...urls], bytes: [...sizes.values()].reduce((sum, size) => sum + size, 0) };
}

async function missing(cache: Cache, urls: string[]): Promise<string[]> {
  const kept = new Set((await cache.keys()).map(({ url }) => url));
  return urls.filter((url) => !kept.has(url));
}

const opened = () => caches.open(audioCache(FOLDER));

/** How much is kept now; what no instrument has any more goes. */
export async function count(): Promise<void> {
  const { urls, bytes } = await allFiles();
  const cache = await opened();
  const wanted = new Set(urls);
  for (const request of await cache.keys()) if (!wanted.has(request.url)) await cache.delete(request);
  const left = await missing(cache, urls);
  useKeeping.setState({ kept: urls.length - left.length, of: urls.length, bytes });
}

let stopped = false;

export function stopKeeping(): void {
  stopped = true;
}

/** Fetches all that is not kept yet; what came stays, whatever happens. */
export async function keepAll(): Promise<void> {
  stopped = false;
  useKeeping.setState({ going: true });
  try {
    // Where the browser is short of room, it leaves this alone.
    await navigator.storage?.persist?.();
    const cache = await opened();
    const { urls, bytes } = await allFiles();
    const left = await missing(cache, urls);
    useKeeping.setState({ kept: urls.length - left.length, of: urls.length, bytes });
    const one = async (): Promise<void> => {
      for (let url = left.pop(); url && !stopped; url = left.pop()) {
        await cache.add(url).catch((error: unknown) => {
          throw new Error(
            error instanceof DOMException && error.name === "QuotaExceededError"
              ? "This browser has no room left for all of it: what is kept so far plays."
              : "The line broke off: what is kept so far plays. Keep all goes on from there.",
          );
        });
        useKeeping.setState(({ kept = 0 }) => ({ kept: kept + 1 }));
      }
    };
    await Promise.all(Array.from({ length: AT_ONCE }, one));
  } catch (error) {
    stopped = true;
    sayError(error);
  } finally {
    useKeeping.setState({ going: false });
  }
}
