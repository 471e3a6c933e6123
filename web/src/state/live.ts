// What passes by: runs, and whether the server is heard.
import { create } from "zustand";
import type { Progress } from "../api/client";

interface Live {
  connected: boolean;
  progress: Record<number, Progress>;
  setConnected: (connected: boolean) => void;
  setProgress: (instrument: number, progress: Progress) => void;
}

export const useLive = create<Live>((set) => ({
  connected: true,
  progress: {},
  setConnected: (connected) => set({ connected }),
  setProgress: (instrument, progress) => set((state) => ({ progress: { ...state.progress, [instrument]: progress } })),
}));
