// The regions of the map for whoever has no mouse: those around the one that is chosen.
import { memo } from "react";
import type { InstrumentView } from "../api/client";
import { inWords, keyName } from "../model/keys";
import type { Placed } from "../model/regions";

/** So many on either side of the chosen one stand in the page: thousands would hold it up. */
const AROUND = 100;

interface Props {
  view: InstrumentView;
  own: Placed[];
  picked: ReadonlySet<Placed>;
  /** The first that is chosen. */
  first: string | undefined;
  pick: (of: Placed, adds: boolean) => void;
}

export const RegionList = memo(function RegionList({ view, own, picked, first, pick }: Props) {
  const at = Math.max(
    0,
    own.findIndex(({ id }) => id === first),
  );
  const from = Math.max(0, at - AROUND);
  return (
    <div role="listbox" aria-multiselectable aria-label="Regions" className="sr-only">
      {own.slice(from, at + AROUND + 1).map((of, n) => (
        <button
          key={of.id}
          role="option"
          aria-selected={picked.has(of)}
          aria-posinset={from + n + 1}
          aria-setsize={own.length}
          data-region={of.id}
          tabIndex={from + n === at ? 0 : -1}
          onClick={(event) => pick(of, event.shiftKey || event.ctrlKey || event.metaKey)}
          onKeyDown={(event) => {
            const to =
              event.key === "ArrowDown" || event.key === "ArrowRight" ? 1 : event.key === "ArrowUp" || event.key === "ArrowLeft" ? -1 : 0;
            const next = own[from + n + to];
            if (to === 0 || !next) return;
            event.preventDefault();
            event.stopPropagation();
            pick(next, event.shiftKey);
            event.currentTarget.parentElement?.querySelector<HTMLElement>(`[data-region="${next.id}"]`)?.focus();
          }}
        >
          {wordsOf(of, view)}
        </button>
      ))}
    </div>
  );
});

/** A region in words. */
function wordsOf({ region, extent, byHand }: Placed, view: InstrumentView): string {
  const { lowKey, highKey, lowStrike, highStrike } = extent;
  const name = inWords(view.program.samples[region.sample]?.name ?? "");
  const hand = byHand.length > 0 ? ", set by hand" : "";
  return `${name}: keys ${keyName(lowKey)} to ${keyName(highKey)}, strikes ${lowStrike} to ${highStrike}${hand}`;
}
