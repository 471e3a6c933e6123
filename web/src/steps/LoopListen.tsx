// A loop is heard: held, its seam alone, many times round, and at the keys where it runs slowest and fastest.
import { useState } from "react";
import type { TakeLoop } from "../api/client";
import { keyName } from "../model/keys";
import { type OnBench, velocityOf } from "../parts/Bench";
import { useLetter } from "../parts/letters";
import { player } from "../sound/player";
import { sayError } from "../state/view";
import { HearButton } from "./Trim";

/** Keys at which a loop runs slowest and fastest. */
const EDGES = [
  { which: "lowest", rounds: 3, title: "Where it runs slowest" },
  { which: "highest", rounds: 6, title: "Where it runs fastest" },
] as const;

interface Props {
  on: OnBench;
  /** The loop that is set. */
  now: TakeLoop | undefined;
  /** The lowest and the highest key that play it; none where it is not laid out. */
  edge: { lowest: number; highest: number } | undefined;
}

export function LoopListen({ on, now, edge }: Props) {
  const { take } = on;
  const [shaped, setShaped] = useState(false);
  const hear = (key: number, rounds: number, seamOnly = false, through = shaped) => {
    if (!now) return;
    const asked = new URLSearchParams({
      looped: JSON.stringify(now),
      key: String(key),
      rounds: String(rounds),
      seam_only: String(seamOnly),
      shaped: String(through),
    });
    void player
      .hear({
        url: `/api/takes/${take.id}/looped?${asked.toString()}`,
        rate: take.rate_hz,
        channels: 2,
      })
      .catch(sayError);
  };
  useLetter("h", (event) => hear(take.cell.key, 1, true, !event.shiftKey));
  return (
    <div className="card flex flex-wrap items-center gap-2 p-3" role="group" aria-label="Listen">
      <HearButton keyNumber={take.cell.key} velocity={velocityOf(on)} name="Hear it held" />
      <button className="button" disabled={!now} onClick={() => hear(take.cell.key, 1, true)}>
        The seam alone
      </button>
      <button className="button" disabled={!now} onClick={() => hear(take.cell.key, 10)}>
        Ten times round
      </button>
      {EDGES.map(
        ({ which, rounds, title }) =>
          edge && (
            <button key={which} className="button" disabled={!now} title={title} onClick={() => hear(edge[which], rounds)}>
              At {keyName(edge[which])}, the {which}
            </button>
          ),
      )}
      <label
        className="flex items-center gap-1 text-[12.5px]"
        title="As the strand plays it that it belongs to; H hears the seam so, Shift+H without"
      >
        <input type="checkbox" checked={shaped} onChange={(event) => setShaped(event.target.checked)} />
        with shape and effects
      </label>
      <button className="button" aria-label="Stop listening" onClick={() => void player.hear(undefined)}>
        ■
      </button>
    </div>
  );
}
