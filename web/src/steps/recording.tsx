// What every way of recording shows: whether a run goes on, and the level that comes in.
import { useEffect, useEffectEvent, useState } from "react";
import type { InstrumentView, Progress } from "../api/client";
import { useLine } from "../devices/line";
import type { BoardCell } from "../model/cells";
import { db } from "../model/units";

export interface RecordProps {
  view: InstrumentView;
  progress: Progress | undefined;
  cells: BoardCell[];
}

export function isGoing(progress: Progress | undefined): progress is Progress {
  return progress !== undefined && progress.state !== "finished" && progress.state !== "stopped";
}

const PEAK_HELD_MS = 2_500;

/** The highest of what was told, for a while. */
function useHeldPeak(now: number): number {
  const [held, setHeld] = useState(now);
  if (now > held) setHeld(now);
  const fall = useEffectEvent(() => setHeld(now));
  useEffect(() => {
    const falling = setInterval(() => fall(), PEAK_HELD_MS);
    return () => clearInterval(falling);
  }, [held]);
  return held;
}

/** The level that comes in, with what it reached held. */
export function LevelMeter({ progress }: { progress: Progress | undefined }) {
  const line = useLine();
  const going = isGoing(progress) || line.open;
  const now = line.open ? 20 * Math.log10(Math.max(1e-6, line.peak)) : going ? (progress?.peak_dbfs ?? -120) : -120;
  const held = useHeldPeak(now);
  const share = (value: number) => `${Math.max(0, Math.min(1, (value + 60) / 60)) * 100}%`;
  return (
    <div className="flex w-full items-center gap-3">
      <div
        className="relative h-2.5 flex-1 overflow-hidden rounded bg-line2"
        role="meter"
        aria-label="Input level"
        aria-valuemin={-60}
        aria-valuemax={0}
        aria-valuenow={Math.round(Math.max(-60, now))}
      >
        <div className={`h-full ${now > -0.2 ? "bg-mark" : "bg-act"}`} style={{ width: share(now) }} />
        {going && held > -60 && <div className="absolute top-0 h-full w-[2px] bg-ink" style={{ left: share(held) }} />}
      </div>
      <span className="num w-16 text-right text-ink3">{going ? db(now) : "–"}</span>
    </div>
  );
}
