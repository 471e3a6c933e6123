// What of the map is chosen.
import { create } from "zustand";
import { useView } from "./view";

interface MapState {
  /** The strand that can be taken hold of; the first where none is said. */
  strand: number | undefined;
  /** Regions that an edit is done to, the one on the bench first. */
  chosen: string[];
  /** Whether a border takes its neighbour's with it. */
  withNeighbours: boolean;
  setStrand: (strand: number) => void;
  choose: (chosen: string[]) => void;
  setWithNeighbours: (on: boolean) => void;
}

export const useMap = create<MapState>((set) => ({
  strand: undefined,
  chosen: [],
  withNeighbours: true,
  setStrand: (strand) => set({ strand, chosen: [] }),
  choose: (chosen) => set({ chosen }),
  setWithNeighbours: (withNeighbours) => set({ withNeighbours }),
}));

// Who chooses cells, by whatever way, has chosen their regions.
useView.subscribe((now, before) => {
  if (now.chosen !== before.chosen) useMap.setState({ chosen: [] });
});
