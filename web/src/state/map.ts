// What of the map is chosen, and what of it is listened to alone.
import { create } from "zustand";
import { player } from "../sound/player";
import { useView } from "./view";

/** What the bench shows of the map. */
export type MapTab = "strand" | "rule" | "region" | "table";

interface MapState {
  /** The strand that can be taken hold of; the first where none is said. */
  strand: number | undefined;
  /** Regions that an edit is done to, the one on the bench first. */
  chosen: string[];
  /** Whether a border takes its neighbour's with it. */
  withNeighbours: boolean;
  tab: MapTab;
  /** What is shaped: the held strand, all of them, or the chosen regions of that one. */
  shaping: "strand" | "all" | "regions";
  /** Strands that are listened to alone. */
  alone: number[];
  /** Regions that are, by strand and number. */
  aloneRegions: [strand: number, number: number][];
  setStrand: (strand: number) => void;
  choose: (chosen: string[]) => void;
  setWithNeighbours: (on: boolean) => void;
  setTab: (tab: MapTab) => void;
  setShaping: (shaping: MapState["shaping"]) => void;
  /** A strand is listened to alone, with the others that are, or no longer. */
  listenTo: (strand: number, on: boolean) => void;
  listenToRegions: (regions: [strand: number, number: number][]) => void;
}

export const useMap = create<MapState>((set) => ({
  strand: undefined,
  chosen: [],
  withNeighbours: true,
  tab: "strand",
  shaping: "strand",
  alone: [],
  aloneRegions: [],
  // What is chosen is shown, unless it is looked at in the table.
  setStrand: (strand) => set(({ tab }) => ({ strand, chosen: [], tab: tab === "table" ? tab : "strand" })),
  choose: (chosen) => set(({ tab }) => ({ chosen, tab: tab === "table" ? tab : "region" })),
  setWithNeighbours: (withNeighbours) => set({ withNeighbours }),
  setTab: (tab) => set({ tab }),
  setShaping: (shaping) => set({ shaping }),
  listenTo: (strand, on) =>
    set(({ alone }) => ({ alone: on ? [...alone, strand] : alone.filter((other) => other !== strand), aloneRegions: [] })),
  listenToRegions: (aloneRegions) => set({ aloneRegions, alone: [] }),
}));

useMap.subscribe((now, before) => {
  if (now.alone === before.alone && now.aloneRegions === before.aloneRegions) return;
  player.listenTo([...now.alone.map((strand): [number, number] => [strand, -1]), ...now.aloneRegions]);
});

useView.subscribe((now, before) => {
  // Who chooses cells, by whatever way, has chosen their regions.
  if (now.chosen !== before.chosen) useMap.setState({ chosen: [] });
  // Another instrument is heard whole.
  if (now.instrument !== before.instrument) useMap.setState({ alone: [], aloneRegions: [], strand: undefined, shaping: "strand" });
});
