// What is done with the parts that are chosen: copied, removed, let go.
import type { InstrumentView } from "../api/client";
import type { Driving, Part } from "../model/panel";
import { sayPanel, usePanel } from "../state/panel";
import { copyWishes, removeWishes } from "./partWishes";

interface Props {
  view: InstrumentView;
  parts: Part[];
  drivings: Map<number, Driving[]>;
  /** As a label calls them. */
  what: string;
}

export function PartActs({ view, parts, drivings, what }: Props) {
  const { choose } = usePanel();
  return (
    <div className="flex gap-2">
      <button
        className="button"
        title="The same again, with all that it drives"
        onClick={() => {
          const { ids, wishes } = copyWishes(view, parts, drivings);
          sayPanel(view, `copy ${what}`, wishes);
          choose(ids);
        }}
      >
        Copy
      </button>
      <button
        className="button"
        onClick={() => {
          sayPanel(view, `remove ${what}`, removeWishes(view, parts));
          choose([]);
        }}
      >
        Remove
      </button>
      <span className="grow" />
      <button className="button" onClick={() => choose([])}>
        Done
      </button>
    </div>
  );
}
