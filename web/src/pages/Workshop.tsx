// One instrument, step by step.
import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { Dialog, DropdownMenu } from "radix-ui";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { answer, api, change, type InstrumentView, type Plan, type Progress } from "../api/client";
import { lookAt } from "../api/live";
import { boardCells, type BoardCell, cellId, centsFromPlan } from "../model/cells";
import type { OnBench } from "../parts/Bench";
import { type Box, type Plot, toCheck, worstFirst } from "../parts/Board";
import { AskName } from "../parts/Ask";
import { Done } from "../parts/Done";
import { Failed, JobBar } from "../parts/JobBar";
import { Brand } from "../parts/Brand";
import type { Surface } from "../parts/canvas";
import { paintWave } from "../parts/paint";
import { Workbench } from "../parts/Workbench";
import { keyOfLetter, listenToMidi, player, useSound } from "../sound/player";
import { progressNow, useLive } from "../state/live";
import { queries } from "../state/client";
import { usePending } from "../state/pending";
import { exportsQuery, makingsQuery, instrumentQuery, thumbnailsQuery } from "../state/queries";
import { sayError, useView } from "../state/view";
import { ExportBench } from "../steps/Export";
import { LoopBench, loopPlot, standsOutWrongly } from "../steps/Loop";
import { MapBench, MapBoard } from "../steps/Map";
import { paintPlan, planPlot } from "../steps/paintPlan";
import { PlanBench } from "../steps/Plan";
import { RecordBench, recordPlot } from "../steps/Record";
import { TrimBench, likenessPlot, sidesPlot, trimPlot } from "../steps/Trim";
import { TuneBench, tunePlot } from "../steps/Tune";

const STEPS = ["plan", "record", "trim", "tune", "loop", "map", "export"] as const;
type Step = (typeof STEPS)[number];
const PLOTS: Partial<Record<Step, Plot>> = { record: recordPlot, trim: trimPlot, tune: tunePlot, loop: loopPlot };

export function Workshop() {
  const params = useParams({ strict: false });
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
  return <Open key={id} view={query.data} at={query.dataUpdatedAt} step={step} />;
}

function Open({ view, at, step }: { view: InstrumentView; at: number; step: Step }) {
  const thumbs = useQuery(thumbnailsQuery(view.id)).data;
  const heard = useLive((state) => state.progress[view.id]);
  const progress = progressNow(heard, view.run, at);
  const { focus, chosen, choose, look, pass, setPass } = useView();
  const shown = Math.min(pass, view.plan.passes.length - 1);
  const cells = useMemo(() => boardCells(view, shown), [view, shown]);
  const { panel, sides } = useView();
  const stereo = view.takes.some((take) => take.channels === 2);
  const plot = useMemo(
    () =>
      step === "plan"
        ? planPlot(view.plan)
        : step === "trim" && panel === "clean" && stereo
          ? sides === "likeness"
            ? likenessPlot
            : sidesPlot
          : PLOTS[step],
    [step, view.plan, panel, stereo, sides],
  );
  useEffect(() => setPass(0), [view.id, setPass]);
  useEffect(() => {
    void player.show(view).catch(sayError);
  }, [view]);
  useEffect(() => {
    // The rungs in the middle of the view, the middle one on the bench.
    const rungs = view.plan.passes[0]?.rungs ?? [];
    const centre = ((rungs[0] ?? 60) + (rungs.at(-1) ?? 60)) / 2;
    look(Math.round(centre - 30), 61);
    const first = cells[Math.floor(cells.length / 2)];
    if (first) choose(first.id, new Set([first.id]));
    // Once for an instrument: afterwards the eye stays where it was.
  }, [view.id]);

  useEffect(() => {
    // Another plan or pass: what was on the bench may be gone.
    if (cells.length > 0 && !cells.some((cell) => cell.id === focus)) {
      const first = cells[Math.floor(cells.length / 2)]!;
      choose(first.id, new Set([first.id]));
    }
  }, [cells, focus, choose]);

  const paint = useCallback(
    (surface: Surface, cell: BoardCell, box: Box, colour: string) => paintCell(step, view, progress, thumbs, surface, cell, box, colour),
    [step, view.plan, progress, thumbs],
  );
  const focused = cells.find((cell) => cell.id === focus);
  const on: OnBench | undefined = focused?.take && {
    view,
    cells,
    cell: focused,
    take: focused.take,
    takes: [focused.take, ...cells.filter((c) => chosen.has(c.id) && c.take && c.id !== focused.id).map((c) => c.take!)],
  };
  const needsTake = step === "trim" || step === "tune" || step === "loop";
  return (
    <div className="flex h-full flex-col">
      <Head view={view} step={step} cells={cells} />
      <div className="min-h-0 flex-1">
        <Workbench
          plan={view.plan}
          cells={cells}
          plot={plot}
          paint={paint}
          wide={step === "map" || step === "export"}
          board={step === "map" || step === "export" ? <MapBoard view={view} /> : undefined}
        >
          {view.plan.passes.length > 1 && step !== "plan" && <PassTabs plan={view.plan} />}
          {step === "plan" && <PlanBench view={view} />}
          {step === "record" && <RecordBench view={view} progress={progress} cells={cells} />}
          {step === "map" && <MapBench view={view} />}
          {step === "export" && <ExportBench view={view} />}
          {needsTake && !on && <Empty view={view} cells={cells} />}
          {step === "trim" && on && <TrimBench key={on.take.id} on={on} />}
          {step === "tune" && on && <TuneBench key={on.take.id} on={on} />}
          {step === "loop" && on && <LoopBench key={on.take.id} on={on} />}
        </Workbench>
      </div>
      <Foot view={view} cells={cells} progress={progress} plot={plot} />
      <Keys view={view} cells={cells} plot={plot} />
    </div>
  );
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
    if (
      p.pass === cell.cell.pass &&
      p.key === cell.cell.key &&
      p.layer === cell.cell.layer &&
      p.round_robin === cell.cell.round_robin &&
      progress.state === "recording"
    ) {
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

function useDone(view: InstrumentView, cells: BoardCell[]): Record<Step, number> {
  const exports = useQuery(exportsQuery(view.id)).data;
  const all = Math.max(1, cells.length);
  const share = (test: (cell: BoardCell) => boolean) => cells.filter(test).length / all;
  const measured = share((c) => c.take?.treatment != null);
  return {
    plan: 1,
    record: share((c) => c.take !== undefined),
    trim: measured,
    tune: share((c) => c.take !== undefined && c.take.treatment != null && Math.abs(centsFromPlan(c.take) ?? 99) <= 60),
    loop: ["struck", "plucked", "drum"].includes(view.plan.kind) ? measured : share((c) => c.take?.treatment?.loop != null),
    map: measured,
    export: exports?.some((job) => job.state === "done") ? 1 : 0,
  };
}

function Head({ view, step, cells }: { view: InstrumentView; step: Step; cells: BoardCell[] }) {
  const done = useDone(view, cells);
  const { playKeys, setPlayKeys, say } = useView();
  const [naming, setNaming] = useState(false);
  const rename = (name: string) => void change(view.id, "rename the instrument", [{ fact: "name", value: name }]).catch(sayError);
  const back = (way: "undo" | "redo") => {
    const path = { params: { path: { id: view.id } } };
    const call = way === "undo" ? api.POST("/api/instruments/{id}/undo", path) : api.POST("/api/instruments/{id}/redo", path);
    void call
      .then(answer)
      .then((undone) =>
        say(
          `${way === "undo" ? "Undone" : "Done again"}: ${undone.label}${undone.left_alone > 0 ? `; ${undone.left_alone} left alone, changed since` : ""}.`,
        ),
      )
      .catch(sayError);
  };
  useEffect(() => {
    const hear = (event: KeyboardEvent) => {
      if (!(event.ctrlKey || event.metaKey) || event.key.toLowerCase() !== "z") return;
      event.preventDefault();
      back(event.shiftKey ? "redo" : "undo");
    };
    window.addEventListener("keydown", hear);
    return () => window.removeEventListener("keydown", hear);
  });
  return (
    <header className="flex h-[52px] shrink-0 items-center gap-6 border-b border-line bg-sheet px-4">
      <Brand />
      <div className="w-[180px] min-w-0 leading-tight">
        <button
          className="block max-w-full truncate font-semibold hover:underline"
          title="Rename the instrument"
          onClick={() => setNaming(true)}
        >
          {view.name}
        </button>
        <AskName title="Rename" open={naming} value={view.name} onClose={() => setNaming(false)} onKeep={rename} />
        <p className="truncate text-[11.5px] text-ink3">
          kept {new Date(view.kept_at).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit" })}
        </p>
      </div>
      <nav aria-label="Steps" className="flex flex-1 justify-center gap-2">
        {STEPS.map((name) => (
          <Link
            key={name}
            to="/instruments/$id/$step"
            params={{ id: String(view.id), step: name }}
            aria-current={name === step ? "step" : undefined}
            className={`rounded-lg px-2.5 py-1.5 font-medium capitalize ${name === step ? "bg-act-soft text-ink" : "text-ink2"}`}
          >
            {name}
            <span className="mt-1 block h-[3px] overflow-hidden rounded bg-line">
              <span className="block h-full bg-act" style={{ width: `${done[name] * 100}%` }} />
            </span>
          </Link>
        ))}
      </nav>
      <div className="flex gap-2">
        <button className="button" disabled={!view.undo} title={view.undo ? `Undo: ${view.undo}` : undefined} onClick={() => back("undo")}>
          Undo
        </button>
        <button className="button" disabled={!view.redo} title={view.redo ? `Redo: ${view.redo}` : undefined} onClick={() => back("redo")}>
          Redo
        </button>
        <Done view={view} />
        <button
          className={`button ${playKeys ? "on" : ""}`}
          aria-pressed={playKeys}
          title="The computer's letter keys play notes"
          onClick={() => {
            setPlayKeys(!playKeys);
            void player.start().catch(sayError);
          }}
        >
          Play keys
        </button>
        <button
          className="button"
          title="Play from a MIDI keyboard"
          onClick={() =>
            void player
              .start()
              .then(listenToMidi)
              .then((inputs) =>
                say(
                  inputs === 0
                    ? "No MIDI keyboard is there yet; one that is plugged in now will be heard."
                    : `${inputs} MIDI ${inputs === 1 ? "input is" : "inputs are"} heard.`,
                ),
              )
              .catch(sayError)
          }
        >
          MIDI
        </button>
      </div>
    </header>
  );
}

function Foot({
  view,
  cells,
  progress,
  plot,
}: {
  view: InstrumentView;
  cells: BoardCell[];
  progress: Progress | undefined;
  plot: Plot | undefined;
}) {
  const { chosen, raw, setRaw } = useView();
  const { meter, rate, heads, of } = useSound();
  const connected = useLive((state) => state.connected);
  const taken = cells.filter((c) => c.take).length;
  const waiting = view.takes.filter((t) => !t.facts).length - view.unmeasured.length;
  const looped = cells.filter((c) => c.take?.treatment?.loop).length;
  const level = meter.peak > 1e-5 ? Math.round(20 * Math.log10(meter.peak)) : undefined;
  return (
    <footer className="flex h-[26px] shrink-0 items-center gap-6 border-t border-line bg-sheet px-4 text-[11.5px] text-ink2">
      {!connected && <span className="font-medium text-mark">The server does not answer; what was kept is safe, trying again…</span>}
      <ChooseMenu cells={cells} plot={plot} />
      <span>
        {chosen.size} of {cells.length} cells chosen
      </span>
      <button
        className="rounded px-1 hover:bg-line2"
        aria-pressed={raw}
        title="R switches between the take as it was recorded and as it is treated"
        onClick={() => setRaw(!raw)}
      >
        Space plays <b className="font-medium">{raw ? "raw" : "treated"}</b>
      </button>
      <span>
        {taken} recorded · {looped} looped{waiting > 0 ? ` · ${waiting} being measured` : ""}
      </span>
      {view.unmeasured.length > 0 && (
        <Failed
          jobs={view.unmeasured}
          what={view.unmeasured.length === 1 ? "A take could not be measured" : `${view.unmeasured.length} takes could not be measured`}
        />
      )}
      <RunningJob id={view.id} />
      <Outdated view={view} />
      {progress?.state === "recording" && (
        <span>
          recording {progress.done + 1} of {progress.total}
        </span>
      )}
      <span className="grow" />
      {of > 0 && heads < of && (
        <span>
          loading {heads} of {of}
        </span>
      )}
      <span className="num" data-part="meter" data-voices={meter.voices} data-peak={meter.peak} data-heads={heads} data-of={of}>
        {rate === 0
          ? "sound starts with the first key"
          : `voices ${meter.voices} / 128 · ${level === undefined ? "silent" : `${String(level).replace("-", "−")} dB`} · ${rate / 1000} kHz`}
      </span>
    </footer>
  );
}

/** Takes that an earlier version measured stay as they are until somebody wants them measured again. */
function Outdated({ view }: { view: InstrumentView }) {
  const { chosen } = useView();
  const [pending, begin] = usePending();
  const jobs = useQuery(makingsQuery(view.id)).data;
  const busy = jobs?.some((job) => job.kind === "measure_again" && (job.state === "running" || job.state === "waiting"));
  const all = view.takes.filter((take) => take.outdated);
  const some = all.filter((take) => take.chosen && chosen.has(cellId(take.cell)));
  if (all.length === 0 || busy) return null;
  const wished = some.length > 0 ? some : all;
  const again = async () => {
    answer(
      await api.POST("/api/instruments/{id}/measure-again", {
        params: { path: { id: view.id } },
        body: { takes: wished.map((take) => take.id) },
      }),
    );
    await queries.invalidateQueries({ queryKey: ["makings", view.id] });
  };
  return (
    <span
      className="whitespace-nowrap"
      data-part="outdated"
      title="They stay as they are until you want them measured again; Undo brings back what was suggested before"
    >
      {all.length} measured by an earlier Ladder{" "}
      <button className="rounded px-1 underline hover:bg-line2" disabled={pending} onClick={() => begin(again)}>
        Measure {some.length > 0 ? `the ${some.length} chosen` : "them"} again
      </button>
    </span>
  );
}

/** What is being done, and what its being cancelled means. */
const JOBS: Record<string, { doing: string; cancelled: string }> = {
  make: { doing: "making takes", cancelled: "Cancelled: no take was made." },
  measure_again: { doing: "measuring again", cancelled: "Cancelled: everything is as it was measured before." },
  loops: { doing: "looking for loops", cancelled: "Cancelled: every loop is as it was." },
  render: {
    doing: "rendering",
    cancelled: "Stopped. The setting stays, and what is missing is rendered when it is heard; Undo takes the setting back.",
  },
};

function RunningJob({ id }: { id: number }) {
  const jobs = useQuery(makingsQuery(id)).data;
  const busy = jobs?.find((job) => job.state === "running" || job.state === "waiting");
  const newest = jobs?.[0];
  if (!busy) return newest?.state === "failed" ? <Failed jobs={[newest]} /> : null;
  const { doing, cancelled } = JOBS[busy.kind] ?? JOBS.render!;
  return (
    <span className="flex items-center gap-2" data-part="job">
      {doing}
      <JobBar job={busy} width="w-24" cancelled={cancelled} />
    </span>
  );
}

type Choosing = "all" | "none" | "second" | "layer" | "check";

/** Many cells at once. */
function ChooseMenu({ cells, plot }: { cells: BoardCell[]; plot: Plot | undefined }) {
  const { focus, choose } = useView();
  const focused = cells.find((cell) => cell.id === focus);
  const rungs = [...new Set(cells.map((cell) => cell.cell.key))].sort((a, b) => a - b);
  const pick = (what: Choosing) => {
    const wanted: Record<Choosing, () => BoardCell[]> = {
      all: () => cells,
      none: () => [],
      second: () => cells.filter((cell) => rungs.indexOf(cell.cell.key) % 2 === Math.max(0, rungs.indexOf(focused?.cell.key ?? -1)) % 2),
      layer: () => cells.filter((cell) => cell.cell.layer === (focused?.cell.layer ?? 0)),
      check: () => (plot ? toCheck(plot, cells) : []),
    };
    const found = wanted[what]();
    choose(
      what === "none" ? focus : ((found.find((cell) => cell.id === focus) ?? found[0])?.id ?? focus),
      new Set(found.map((cell) => cell.id)),
    );
  };
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="rounded border border-line bg-raised px-2 leading-[18px]">Choose ▴</DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          side="top"
          align="start"
          sideOffset={4}
          className="z-50 min-w-44 rounded-lg border border-line bg-raised p-1 text-[13px] shadow-lg"
        >
          {(
            [
              ["all", "all cells"],
              ["second", "every second rung"],
              ["layer", "this layer"],
              ["check", "all to check"],
              ["none", "none"],
            ] as const
          ).map(([what, name]) => (
            <DropdownMenu.Item
              key={what}
              onSelect={() => pick(what)}
              className="cursor-pointer rounded-md px-2 py-1 outline-none data-[highlighted]:bg-act-soft"
            >
              {name}
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

const SHORTCUTS = [
  ["Space", "play what is chosen; again to stop"],
  ["← → ↑ ↓", "walk the board"],
  ["W, Shift+W", "the worst cell of this step, then the next; and back"],
  ["R", "hear takes raw or treated"],
  ["Ctrl+Z, Ctrl+Shift+Z", "undo, redo"],
  ["Ctrl+wheel", "zoom the ladder; the wheel alone scrolls it"],
  ["+ − ← → Home", "zoom and move the waveform, when it has the focus"],
  ["Z S X D C … Q 2 W …", "play notes, while Play keys is on"],
  ["K A S B T", "by hand: keep, again, skip, back, tune it first"],
  ["?", "this list"],
];

/** Keys that work on every step. */
function Keys({ view, cells, plot }: { view: InstrumentView; cells: BoardCell[]; plot: Plot | undefined }) {
  const [open, setOpen] = useState(false);
  const [sounding, setSounding] = useState<number | undefined>();
  const lastWorst = useRef<string | undefined>(undefined);
  useEffect(() => {
    const typing = (event: KeyboardEvent) =>
      event.target instanceof HTMLInputElement ||
      (event.target instanceof HTMLElement &&
        event.target.closest("[role=combobox],[role=listbox][data-radix-select-viewport],[role=dialog]") !== null);
    const down = (event: KeyboardEvent) => {
      if (typing(event) || event.ctrlKey || event.metaKey || event.altKey) return;
      const { playKeys, focus, choose } = useView.getState();
      const note = playKeys ? keyOfLetter(event.code) : undefined;
      if (note !== undefined) {
        if (!event.repeat) void player.on(note, 100);
        return;
      }
      const cell = cells.find((c) => c.id === focus);
      if (event.key === "?") setOpen(true);
      else if (event.key.toLowerCase() === "w" && plot) {
        const order = worstFirst(plot, cells);
        const at = order.findIndex((c) => c.id === focus);
        // From elsewhere the walk begins with the worst.
        const walking = at >= 0 && lastWorst.current === focus;
        const next = order[walking ? Math.min(order.length - 1, Math.max(0, at + (event.shiftKey ? -1 : 1))) : 0];
        lastWorst.current = next?.id;
        if (next) choose(next.id, new Set([next.id]));
      } else if (event.key.toLowerCase() === "r") useView.getState().setRaw(!useView.getState().raw);
      else if (event.code === "Space" && cell && !(event.target instanceof HTMLButtonElement)) {
        event.preventDefault();
        if (event.repeat) return;
        if (useView.getState().raw && cell.take) {
          const again = sounding !== undefined;
          setSounding(again ? undefined : cell.cell.key);
          void (again ? player.hear(undefined) : player.hearTake(cell.take)).catch(sayError);
        } else if (sounding !== undefined) {
          player.off(sounding);
          setSounding(undefined);
        } else {
          const strike = view.plan.passes[cell.cell.pass]?.layers[cell.cell.layer]?.strike_velocity ?? 100;
          void player.on(cell.cell.key, strike);
          setSounding(cell.cell.key);
        }
      } else if (event.key.startsWith("Arrow") && cell) {
        event.preventDefault();
        const sideways = event.key === "ArrowRight" ? 1 : event.key === "ArrowLeft" ? -1 : 0;
        const next = sideways
          ? cells.find((c) => c.cell.key === cell.cell.key && c.column === cell.column + sideways)
          : cells
              .filter(
                (c) => c.column === cell.column && (event.key === "ArrowUp" ? c.cell.key > cell.cell.key : c.cell.key < cell.cell.key),
              )
              .sort((a, b) => Math.abs(a.cell.key - cell.cell.key) - Math.abs(b.cell.key - cell.cell.key))[0];
        if (next) choose(next.id, new Set([next.id]));
      }
    };
    const up = (event: KeyboardEvent) => {
      const note = keyOfLetter(event.code);
      if (note !== undefined && useSound.getState().held.has(note)) player.off(note);
    };
    // A window that loses the focus hears no key come up.
    const lost = () => player.quiet();
    window.addEventListener("keydown", down);
    window.addEventListener("keyup", up);
    window.addEventListener("blur", lost);
    return () => {
      window.removeEventListener("keydown", down);
      window.removeEventListener("keyup", up);
      window.removeEventListener("blur", lost);
    };
  }, [cells, view, sounding, plot]);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/20" />
        <Dialog.Content className="card fixed top-1/4 left-1/2 w-[420px] -translate-x-1/2 p-5 shadow-lg" aria-describedby={undefined}>
          <Dialog.Title className="mb-3 text-[15px] font-semibold">Keys of this page</Dialog.Title>
          <dl className="grid grid-cols-[170px_1fr] gap-y-1.5">
            {SHORTCUTS.map(([keys, does]) => [
              <dt key={keys} className="num">
                {keys}
              </dt>,
              <dd key={does}>{does}</dd>,
            ])}
          </dl>
          <Dialog.Close className="button mt-4">Close</Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
