// Map: how takes are laid over keys and strikes, by rule and by hand.
import type { InstrumentView } from "../api/client";
import { chosenRegions, placedRegions } from "../model/regions";
import { heldStrand, placedStrands } from "../model/strands";
import { type MapTab, useMap } from "../state/map";
import { useView } from "../state/view";
import { RegionCard } from "./RegionCard";
import { RegionTable } from "./RegionTable";
import { Rule } from "./Rule";
import { StrandCard } from "./StrandCard";
import { Strands } from "./Strands";

const TABS: { value: MapTab; name: string }[] = [
  { value: "strand", name: "Strand" },
  { value: "rule", name: "By rule" },
  { value: "region", name: "Region" },
  { value: "table", name: "Table" },
];

export function MapBench({ view }: { view: InstrumentView }) {
  const { focus, chosen: cells, pass } = useView();
  const { chosen, strand: wanted, tab, setTab } = useMap();
  const strands = placedStrands(view);
  const heldId = heldStrand(view, wanted, pass);
  const held = strands.find(({ strand }) => strand.id === heldId);
  const own = placedRegions(view).filter(({ region }) => region.key.strand === held?.strand.id);
  const shown = chosenRegions(own, chosen, cells, focus);
  return (
    <>
      <Strands view={view} strands={strands} held={held} />
      <div role="tablist" aria-label="What of the map" className="flex gap-1">
        {TABS.map(({ value, name }) => (
          <button
            key={value}
            role="tab"
            aria-selected={tab === value}
            className={`button ${tab === value ? "on" : ""}`}
            onClick={() => setTab(value)}
          >
            {name}
          </button>
        ))}
      </div>
      {tab === "strand" && held && <StrandCard key={held.strand.id} view={view} of={held} strands={strands} />}
      {tab === "rule" && <Rule view={view} />}
      {tab === "region" &&
        (shown[0] ? (
          <RegionCard view={view} of={shown} first={shown[0]} />
        ) : (
          <p className="text-ink3">Click a region on the board to see what it sounds on.</p>
        ))}
      {tab === "table" && <RegionTable view={view} all={own} chosen={shown} />}
    </>
  );
}
