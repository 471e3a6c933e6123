// One instrument, step by step.
import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { lazy, Suspense, useCallback, useEffect, useEffectEvent, useMemo } from "react";
import type { InstrumentView, Plan, Progress } from "../api/client";
import { lookAt } from "../api/live";
import { type BoardCell, boardCells, centsFromPlan, sameCell } from "../model/cells";
import { worstOnCells } from "../model/findings";
import { type Step, STEPS, type Whereabouts } from "../model/steps";
import type { OnBench } from "../parts/Bench";
import type { Box, Plot } from "../parts/Board";
import { Brand } from "../parts/Brand";
import type { Surface } from "../parts/canvas";
import { paintWave } from "../parts/paint";
import { partsOn } from "../parts/PanelPage";
import { Workbench } from "../parts/Workbench";
import { player } from "../sound/player";
import { useEdited } from "../state/edits";
import { progressNow, useLive } from "../state/live";
import { findingsQuery, instrumentQuery, thumbnailsQuery } from "../state/queries";
import { pageOf, usePanel } from "../state/panel";
import { sayError, useView } from "../state/view";
import { CheckBench } from "../steps/Check";
import { heardPlot, paintFinding } from "../steps/checkPlot";
import { LoopBench, loopPlot, standsOutWrongly } from "../steps/Loop";
import { MapBench } from "../steps/Map";
import { onKeys } from "../steps/dropped";
import { MapBoard } from "../steps/MapBoard";
import { ShapeBench } from "../steps/Shape";
import { ShapeBoard } from "../steps/ShapeBoard";
import { paintPlan, planPlot } from "../steps/paintPlan";
import { PlanBench } from "../steps/Plan";
import { RecordBench, recordPlot } from "../steps/Record";
import { likenessPlot, sidesPlot, TrimBench, trimPlot } from "../steps/Trim";
import { TuneBench, tunePlot } from "../steps/Tune";
import { Foot } from "./Foot";
import { Head } from "./Head";
import { Keys } from "./Keys";

/** What only one step has is fetched with it. */
const ExportBench = lazy(async () => ({ default: (await import("../steps/Export")).ExportBench }));
const PanelBench = lazy(async () => ({ default: (await import("../steps/Panel")).PanelBench }));

/** Of a step whose arrows move something else. */
const NO_CELLS: BoardCell[] = [];
const PLOTS: Partial<Record<Step, Plot>> = { record: recordPlot, trim: trimPlot, tune: tunePlot, loop: loopPlot };

export function Workshop() {
  const params: Whereabouts = useParams({ strict: false });
  const id = Number(params.id);
  const step = (STEPS as readonly string[]).includes(params.step ?? "") ? (params.step as Step) : "plan";
  const query = useQuery(instrumentQuery(id));
  useEffect(() => {
    lookAt(id);
    return () => lookAt(undefined);
  }, [id]);
  // A page that is open stays open: what could not be fetched anew is fetched again.
  if (query.isError && !query.data) {
    return (
      <div className="p-6">
        <Brand />
        <p className="mt-4 text-mark">{query.error.message}</p>
        <Link to="/" className="button mt-3 inline-block">
          To the shelf
        </Link>
      </div>
    );
  }
  if (!query.data) return <p className="p-6 text-ink3">Opening…</p>;
  return <Open key={id} kept={query.data} at={query.dataUpdatedAt} step={step} />;
}

function Open({ kept, at, step }: { kept: InstrumentView; at: number; step: Step }) {
  const view = useEdited(kept);
  const thumbs = useQuery(thumbnailsQuery(view.id)).data;
  const heard = useLive((state) => state.progress[view.id]);
  const progress = progressNow(heard, view.run, at);
  const { focus, chosen, choose, look, pass, setPass } = useView();
  const shown = Math.min(pass, view.plan.passes.length - 1);
  const cells = useMemo(() => boardCells(view, shown), [view, shown]);
  const { panel, sides, heardWhat, walked } = useView();
  const found = useQuery(findingsQuery(view.id)).data;
  const worst = useMemo(() => worstOnCells(found?.findings ?? []), [found]);
  const stereo = view.takes.some((take) => take.channels === 2);
  const plot = useMemo(
    () =>
      step === "plan"
        ? planPlot(view.plan)
        : step === "check"
          ? heardPlot(found, heardWhat, walked)
          : step === "trim" && panel === "clean" && stereo
            ? sides === "likeness"
              ? likenessPlot
              : sidesPlot
            : PLOTS[step],
    [step, view.plan, panel, stereo, sides, found, heardWhat, walked],
  );
  useEffect(() => {
    void player.show(kept).catch(sayError);
  }, [kept]);
  const begin = useEffectEvent(() => {
    const { instrument, setInstrument } = useView.getState();
    if (instrument === view.id) return;
    setInstrument(view.id);
    setPass(0);
    // The rungs in the middle of the view, the middle one on the bench.
    const rungs = view.plan.passes[0]?.rungs ?? [];
    const centre = ((rungs[0] ?? 60) + (rungs.at(-1) ?? 60)) / 2;
    look(Math.round(centre - 30), 61);
    const first = cells[Math.floor(cells.length / 2)];
    if (first) choose(first.id, new Set([first.id]));
  });
  // Once for an instrument: afterwards the eye stays where it was.
  useEffect(() => begin(), [view.id]);

  useEffect(() => {
    // Another plan or pass: what was on the bench may be gone.
    if (cells.length > 0 && !cells.some((cell) => cell.id === focus)) {
      const first = cells[Math.floor(cells.length / 2)]!;
      choose(first.id, new Set([first.id]));
    }
  }, [cells, focus, choose]);

  const paint = useCallback(
    (surface: Surface, cell: BoardCell, box: Box, colour: string) =>
      step === "check"
        ? paintFinding(surface, cell, box, worst.get(cell.id))
        : paintCell(step, view, progress, thumbs, surface, cell, box, colour),
    [step, view, progress, thumbs, worst],
  );
  const focused = cells.find((cell) => cell.id === focus);
  const on: OnBench | undefined = focused?.take && {
    view,
    cells,
    cell: focused,
    take: focused.take,
    takes: [focused.take, ...cells.filter((c) => chosen.has(c.id) && c.take && c.id !== focused.id).map((c) => c.take!)],
  };
  const ofPanel = usePanelNote(view);
  const note = step === "panel" ? ofPanel : undefined;
  const needsTake = step === "trim" || step === "tune" || step === "loop";
  return (
    <div className="flex h-full flex-col">
      <Head view={view} step={step} cells={cells} found={found} />
      <div className="min-h-0 flex-1">
        {step === "panel" ? (
          <Suspense fallback={<p className="p-6 text-ink3">Opening…</p>}>
            <PanelBench view={view} />
          </Suspense>
        ) : (
          <Workbench
            plan={view.plan}
            cells={cells}
            plot={plot}
            paint={paint}
            wide={step === "map" || step === "export"}
            onFiles={step === "map" ? (key, files) => void onKeys(view, key, files).catch(sayError) : undefined}
            board={
              step === "map" || step === "export" ? <MapBoard view={view} /> : step === "shape" ? <ShapeBoard view={view} /> : undefined
            }
          >
            {view.plan.passes.length > 1 && step !== "plan" && step !== "map" && step !== "shape" && <PassTabs plan={view.plan} />}
            {step === "plan" && <PlanBench view={view} />}
            {step === "record" && <RecordBench view={view} progress={progress} cells={cells} />}
            {step === "map" && <MapBench view={view} />}
            {step === "shape" && <ShapeBench view={view} />}
            {step === "check" && <CheckBench view={view} progress={progress} />}
            {step === "export" && (
              <Suspense fallback={<p className="text-ink3">Opening…</p>}>
                <ExportBench view={view} />
              </Suspense>
            )}
            {needsTake && !on && <Empty view={view} cells={cells} />}
            {step === "trim" && on && <TrimBench key={on.take.id} on={on} />}
            {step === "tune" && on && <TuneBench key={on.take.id} on={on} />}
            {step === "loop" && on && <LoopBench key={on.take.id} on={on} />}
          </Workbench>
        )}
      </div>
      <Foot view={view} cells={cells} progress={progress} plot={plot} note={note} />
      <Keys view={view} step={step} cells={step === "panel" ? NO_CELLS : cells} plot={plot} found={found} />
    </div>
  );
}

/** What can be done with the page of the panel. */
function usePanelNote(view: InstrumentView): string {
  const { page, arranging } = usePanel();
  const of = pageOf(view, page);
  if (!of) return "no page yet";
  const count = partsOn(view, of.id).length;
  const parts = `${count} ${count === 1 ? "part" : "parts"} on ${of.name}`;
  return arranging ? `${parts} · arrows move, Shift+arrows size` : parts;
}

function PassTabs({ plan }: { plan: Plan }) {
  const { pass, setPass } = useView();
  return (
    <div role="tablist" aria-label="Passes" className="flex flex-wrap gap-1">
      {plan.passes.map((p, n) => (
        <button key={n} role="tab" aria-selected={n === pass} className={`button ${n === pass ? "on" : ""}`} onClick={() => setPass(n)}>
          {p.name}
        </button>
      ))}
    </div>
  );
}

function Empty({ view, cells }: { view: InstrumentView; cells: BoardCell[] }) {
  const any = cells.some((cell) => cell.take);
  return (
    <div className="card p-6">
      <p className="mb-3">
        {any
          ? "This cell has no take yet. Choose another on the board, or record it."
          : "There is nothing to work on yet: this step begins when the first take is there."}
      </p>
      <Link to="/instruments/$id/$step" params={{ id: String(view.id), step: "record" }} className="button act">
        Go to Record
      </Link>
    </div>
  );
}

function paintCell(
  step: Step,
  { plan, figures }: InstrumentView,
  progress: Progress | undefined,
  thumbs: Parameters<typeof paintWave>[4],
  surface: Surface,
  cell: BoardCell,
  box: Box,
  colour: string,
): void {
  const { ctx, colours } = surface;
  if (step === "plan") return paintPlan(surface, plan, figures, cell, box);
  if (step === "tune") {
    const off = cell.take && centsFromPlan(cell.take);
    if (off === undefined) return paintWave(surface, cell, box, colour, thumbs);
    const middle = box.x + box.width / 2;
    ctx.fillStyle = colours.line;
    ctx.fillRect(middle, box.y + 3, 1, box.height - 6);
    const x = middle + (Math.max(-50, Math.min(50, off)) / 50) * (box.width / 2 - 8);
    const verdict = tunePlot.verdict!(off, tunePlot.expected!(cell.take!), cell.take);
    ctx.fillStyle = verdict === 2 ? colours.mark : verdict === 1 ? colours.chosenLine : colour;
    ctx.fillRect(Math.min(middle, x), box.y + box.height / 2 - 1, Math.abs(x - middle), 2);
    ctx.fillRect(x - 1.5, box.y + 4, 3, Math.max(1, box.height - 8));
    return;
  }
  paintWave(surface, cell, box, colour, thumbs, step === "loop" ? 6 : 0);
  if (step === "record" && cell.refused && !cell.take && box.height > 6) {
    ctx.fillStyle = colours.chosenLine;
    ctx.fillRect(box.x, box.y + box.height - 3, box.width, 3);
  }
  if (step === "record" && progress?.cell && !cell.take) {
    const p = progress.cell;
    if (sameCell(p, cell.cell) && progress.state === "recording") {
      ctx.fillStyle = colours.actSoft;
      ctx.fillRect(box.x, box.y, box.width, box.height);
      ctx.fillStyle = colour;
      ctx.fillRect(box.x, box.y, box.width * progress.cell_share, box.height);
    }
  }
  const loop = cell.take?.treatment?.loop;
  if (step === "loop" && cell.take && loop && box.height > 8) {
    const x = (frame: number) => box.x + 2 + (frame / cell.take!.frames) * (box.width - 4);
    ctx.fillStyle = standsOutWrongly(cell.take) ? colours.chosenLine : colours.ink;
    ctx.fillRect(x(loop.start_frame), box.y + box.height - 4, Math.max(2, x(loop.end_frame) - x(loop.start_frame)), 2.5);
  }
}
