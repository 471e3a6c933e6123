// Where a strand begins and ends on the keys: a line across the board with a handle, which takes along what meets it there.
import { useState } from "react";
import type { InstrumentView } from "../api/client";
import { keyName } from "../model/keys";
import { border, meeting, type PlacedStrand, placedStrands } from "../model/strands";
import { useDrag } from "../parts/drag";
import { HEADER, laneTop } from "../parts/Ladder";
import { change } from "../state/edits";
import { useMap } from "../state/map";
import { sayError, useView } from "../state/view";

type End = "low" | "high";

export function Split({ view, strand }: { view: InstrumentView; strand: number | undefined }) {
  const all = placedStrands(view);
  const of = all.find((one) => one.strand.id === strand);
  if (!of) return null;
  return (
    <>
      {border(of, "keys", "low") > 0 && <Border view={view} all={all} of={of} end="low" />}
      {border(of, "keys", "high") < 127 && <Border view={view} all={all} of={of} end="high" />}
    </>
  );
}

interface Props {
  view: InstrumentView;
  all: PlacedStrand[];
  of: PlacedStrand;
  end: End;
}

function Border({ view, all, of, end }: Props) {
  const { low, keys } = useView();
  const withNeighbours = useMap((state) => state.withNeighbours);
  const [live, setLive] = useState<number>();
  const kept = border(of, "keys", end);
  const at = live ?? kept;
  const keep = (to: number) => {
    setLive(undefined);
    if (to === kept) return;
    const wishes = [{ strand: of.strand.id, fact: end === "low" ? ("strand_low_key" as const) : ("strand_high_key" as const), value: to }];
    const along = withNeighbours ? meeting(all, of, end) : [];
    for (const other of along)
      wishes.push({
        strand: other.strand.id,
        fact: end === "low" ? "strand_high_key" : "strand_low_key",
        value: end === "low" ? to - 1 : to + 1,
      });
    void change(
      view.id,
      along.length > 0 ? "move a split" : `move where ${of.strand.name} ${end === "low" ? "begins" : "ends"}`,
      wishes,
    ).catch(sayError);
  };
  const within = (key: number) =>
    end === "low" ? Math.min(border(of, "keys", "high"), Math.max(1, key)) : Math.max(border(of, "keys", "low"), Math.min(126, key));
  const lane = (height: number) => (height - HEADER) / keys;
  const { handlers } = useDrag<number>({
    // The board's height: the handle's own place is measured by it.
    take: (_, event) => event.currentTarget.closest("[data-part=split]")?.parentElement?.clientHeight ?? 1,
    move: (height, by) => setLive(within(Math.round(kept - by.y / lane(height)))),
    drop: (height, by) => keep(within(Math.round(kept - by.y / lane(height)))),
    cancel: () => setLive(undefined),
  });
  // In shares of the height, as the canvas beneath has it.
  const edge = end === "low" ? at : at + 1;
  if (edge <= low || edge >= low + keys) return null;
  const top = (height: number) => laneTop(edge - 1, low, keys, height);
  const share = (top(10_000 + HEADER) - HEADER) / 10_000;
  return (
    <div
      data-part="split"
      className="pointer-events-none absolute right-[112px] left-0 border-t-2 border-dashed border-act"
      style={{ top: `calc(${HEADER}px + (100% - ${HEADER}px) * ${share} - 1px)` }}
    >
      <button
        role="slider"
        aria-label={`${of.strand.name} ${end === "low" ? "begins" : "ends"} at`}
        aria-orientation="vertical"
        aria-valuemin={0}
        aria-valuemax={127}
        aria-valuenow={at}
        aria-valuetext={keyName(at)}
        className="split-handle"
        onKeyDown={(event) => {
          const step = event.key === "ArrowUp" ? 1 : event.key === "ArrowDown" ? -1 : 0;
          if (step === 0) return;
          event.preventDefault();
          event.stopPropagation();
          keep(within(at + step));
        }}
        {...handlers}
      >
        {end === "low" ? "from" : "to"} {keyName(at)}
      </button>
    </div>
  );
}
