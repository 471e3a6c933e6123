// What of the panel is looked at and chosen while it is arranged.
import { create } from "zustand";
import { change } from "./edits";
import { sayError } from "./view";
import type { InstrumentView } from "../api/client";
import type { Wish } from "../model/edited";

interface PanelState {
  /** The page that is looked at; the first where it is gone. */
  page: number | undefined;
  /** Parts that an edit is done to, the one that is set first. */
  chosen: number[];
  /** Whether parts are moved by hand; else they are played. */
  arranging: boolean;
  /** The control that takes the next controller that moves. */
  learning: number | undefined;
  setPage: (page: number | undefined) => void;
  choose: (chosen: number[]) => void;
  setArranging: (arranging: boolean) => void;
  setLearning: (learning: number | undefined) => void;
}

export const usePanel = create<PanelState>((set) => ({
  page: undefined,
  chosen: [],
  arranging: true,
  learning: undefined,
  setPage: (page) => set({ page, chosen: [] }),
  choose: (chosen) => set({ chosen, learning: undefined }),
  setArranging: (arranging) => set({ arranging, learning: undefined }),
  setLearning: (learning) => set({ learning }),
}));

/** The page that is looked at. */
export const pageOf = ({ panel }: InstrumentView, wanted: number | undefined) =>
  panel.pages.find(({ id }) => id === wanted) ?? panel.pages[0];

/** Says something of the panel, as one act. */
export function sayPanel(view: InstrumentView, label: string, wishes: Wish[]): void {
  if (wishes.length > 0) void change(view.id, label, wishes).catch(sayError);
}
