// What passes by: runs, and whether the server is heard.
import { create } from "zustand";
import type { Progress } from "../api/client";

/** Where a run stands, and when that was heard. */
export interface HeardProgress {
  progress: Progress | undefined;
  at: number;
}

/** How much of a job was done when it was heard of. */
interface HeardShare {
  share: number;
  at: number;
}

interface Live {
  connected: boolean;
  progress: Record<number, HeardProgress>;
  /** Jobs of this page's time: as they were first and last heard of. */
  jobs: Record<number, { first: HeardShare; last: HeardShare }>;
  setConnected: (connected: boolean) => void;
  hearJob: (id: number, share: number) => void;
  setProgress: (instrument: number, progress: Progress | undefined) => void;
  forgetProgress: () => void;
}

export const useLive = create<Live>((set) => ({
  connected: true,
  progress: {},
  jobs: {},
  setConnected: (connected) => set({ connected }),
  setProgress: (instrument, progress) => set((state) => ({ progress: { ...state.progress, [instrument]: { progress, at: Date.now() } } })),
  hearJob: (id, share) =>
    set((state) => {
      const heard = { share, at: Date.now() };
      return { jobs: { ...state.jobs, [id]: { first: state.jobs[id]?.first ?? heard, last: heard } } };
    }),
  forgetProgress: () => set({ progress: {} }),
}));

/** What is shown of a run: the newest that was heard, or what the instrument says where that is newer by more than a moment. */
export function progressNow(heard: HeardProgress | undefined, said: Progress | null | undefined, saidAt: number): Progress | undefined {
  const MOMENT_MS = 1_500;
  if (!heard) return said ?? undefined;
  const ended = !said && saidAt > heard.at + MOMENT_MS;
  const going = heard.progress && heard.progress.state !== "finished" && heard.progress.state !== "stopped";
  return ended && going ? undefined : heard.progress;
}
