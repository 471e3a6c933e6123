// The right-hand side of a step: which cell is on it, and its neighbours.
import type { InstrumentView, TakeView } from "../api/client";
import { type BoardCell, layerOf, sameCell, turnOf } from "../model/cells";
import { keyName } from "../model/keys";
import { useView } from "../state/view";

export interface OnBench {
  view: InstrumentView;
  cells: BoardCell[];
  cell: BoardCell;
  take: TakeView;
  /** Takes of all chosen cells, the one on the bench first. */
  takes: TakeView[];
}

export function BenchHead({
  on,
  note,
  wave = true,
}: {
  on: OnBench;
  note?: React.ReactNode;
  /** Whether a waveform stands below. */ wave?: boolean;
}) {
  const { choose, apart, setApart } = useView();
  const { cell, take, view, cells } = on;
  const row = cells.filter((c) => c.column === cell.column).sort((a, b) => a.cell.key - b.cell.key);
  const at = row.findIndex((c) => c.id === cell.id);
  const [below, above] = [row[at - 1], row[at + 1]];
  const go = (to: BoardCell) => choose(to.id, new Set([to.id]));
  const ofCell = view.takes.filter((t) => sameCell(t.cell, take.cell));
  return (
    <div className="flex items-start justify-between gap-3">
      <div className="min-w-0">
        <h2 className="text-[17px]">
          <b className="font-semibold">{keyName(cell.cell.key)}</b>{" "}
          <span className="text-ink2">
            {layerOf(view.plan, cell.cell)?.name}
            {turnOf(view.plan, cell.cell)}
          </span>
        </h2>
        <p className="truncate text-[11.5px] text-ink3">
          take {ofCell.findIndex((t) => t.id === take.id) + 1} of {ofCell.length} · {take.rate_hz / 1000} kHz ·{" "}
          {(view.plan.mics?.length ?? 0) > 1
            ? view.plan.mics!.join(" + ")
            : take.channels === 2
              ? "stereo"
              : take.channels === 1
                ? "mono"
                : `${take.channels} channels`}{" "}
          · {(take.frames / take.rate_hz).toFixed(1)} s
          {wave && take.channels === 2 && (
            <button className="ml-2 underline" aria-pressed={apart} onClick={() => setApart(!apart)}>
              {apart ? "show both sides together" : "show left and right"}
            </button>
          )}
        </p>
      </div>
      <div className="flex items-center gap-2">
        {note}
        {below && (
          <button className="button" onClick={() => go(below)} aria-label={`To ${keyName(below.cell.key)}`}>
            ‹ {keyName(below.cell.key)}
          </button>
        )}
        {above && (
          <button className="button" onClick={() => go(above)} aria-label={`To ${keyName(above.cell.key)}`}>
            {keyName(above.cell.key)} ›
          </button>
        )}
      </div>
    </div>
  );
}

export function Badge({ children, wrong }: { children: React.ReactNode; wrong?: boolean }) {
  return (
    <span className={`rounded-md px-2 py-1 text-[11.5px] font-medium ${wrong ? "bg-mark/10 text-mark" : "bg-chosen text-warn"}`}>
      {children}
    </span>
  );
}

/** How hard the layer of the cell on the bench is struck. */
export function velocityOf(on: OnBench): number {
  return layerOf(on.view.plan, on.cell.cell)?.strike_velocity ?? 100;
}
