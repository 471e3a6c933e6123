// What passes by: runs, and whether the server is heard.
import { create } from "zustand";
import type { Progress } from "../api/client";

/** Where a run stands, and when that was heard. */
export interface HeardProgress {
  progress: Progress | undefined;
  at: number;
}

interface Live {
  connected: boolean;
  progress: Record<number, HeardProgress>;
  setConnected: (connected: boolean) => void;
  setProgress: (instrument: number, progress: Progress | undefined) => void;
  forgetProgress: () => void;
}

export const useLive = create<Live>((set) => ({
  connected: true,
  progress: {},
  setConnected: (connected) => set({ connected }),
  setProgress: (instrument, progress) => set((state) => ({ progress: { ...state.progress, [instrument]: { progress, at: Date.now() } } })),
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
