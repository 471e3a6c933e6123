// Ladder, board and bench, side by side, as every step has them.
import type { Plan } from "../api/client";
import type { BoardCell } from "../model/cells";
import { useView } from "../state/view";
import { Board, type Plot } from "./Board";
import { Ladder } from "./Ladder";

interface Props {
  plan: Plan;
  cells: BoardCell[];
  plot?: Plot;
  paint: React.ComponentProps<typeof Board>["paint"];
  /** Instead of the cells: another picture on the same axis. */
  board?: React.ReactNode;
  wide?: boolean;
  /** Files that are dropped on a key. */
  onFiles?: ((key: number, files: File[]) => void) | undefined;
  children: React.ReactNode;
}

export function Workbench({ plan, cells, plot, paint, board, wide, onFiles, children }: Props) {
  const pass = useView((state) => Math.min(state.pass, plan.passes.length - 1));
  return (
    <main className="flex h-full min-h-0">
      <div className="relative w-[74px] shrink-0">
        <Ladder rungs={plan.passes[pass]?.rungs ?? []} onFiles={onFiles} />
      </div>
      <div className={`relative shrink-0 border-r border-line ${wide ? "w-[max(420px,calc(50vw-74px))]" : "w-[max(452px,32vw)]"}`}>
        {board ?? <Board plan={plan} cells={cells} plot={plot} paint={paint} />}
      </div>
      <section aria-label="Bench" className="relative flex min-w-0 flex-1 flex-col gap-3 overflow-y-auto p-4">
        {children}
      </section>
    </main>
  );
}
