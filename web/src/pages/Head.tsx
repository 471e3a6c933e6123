// What stands over every step: the instrument's name, the steps with how much of each is done, undo, and the keys.
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useEffect, useState } from "react";
import { answer, api, type InstrumentView } from "../api/client";
import { change, inLine } from "../state/edits";
import { type BoardCell, centsFromPlan } from "../model/cells";
import { type Findings, shareRight } from "../model/findings";
import { type Step, STEPS } from "../model/steps";
import { AskName } from "../parts/Ask";
import { Brand } from "../parts/Brand";
import { Done } from "../parts/Done";
import { Settings } from "../parts/Settings";
import { listenToMidi, player, stopMidi, useSound } from "../sound/player";
import { exportsQuery } from "../state/queries";
import { sayError, useView } from "../state/view";

/** How much of each step is done, 0 to 1. */
function useDone(view: InstrumentView, cells: BoardCell[], found: Findings | undefined): Record<Step, number> {
  const exports = useQuery(exportsQuery(view.id)).data;
  const all = Math.max(1, cells.length);
  const share = (test: (cell: BoardCell) => boolean) => cells.filter(test).length / all;
  const measured = share((c) => c.take?.treatment != null);
  return {
    plan: 1,
    record: share((c) => c.take !== undefined),
    trim: measured,
    tune: share((c) => c.take?.treatment != null && (c.take.correction.no_pitch || Math.abs(centsFromPlan(c.take) ?? 99) <= 60)),
    loop: ["struck", "plucked", "drum"].includes(view.plan.kind) ? measured : share((c) => c.take?.treatment?.loop != null),
    map: measured,
    shape: measured,
    panel: view.panel.parts.length > 0 ? 1 : 0,
    check: found ? shareRight(cells, found.findings) : 0,
    export: exports?.some((job) => job.state === "done") ? 1 : 0,
  };
}

interface HeadProps {
  view: InstrumentView;
  step: Step;
  cells: BoardCell[];
  /** What is wrong with it. */
  found: Findings | undefined;
}

export function Head({ view, step, cells, found }: HeadProps) {
  const done = useDone(view, cells, found);
  const left: Record<string, number> | undefined = found?.left;
  const { playKeys, setPlayKeys, say } = useView();
  const midi = useSound((sound) => sound.midi);
  const [naming, setNaming] = useState(false);
  const rename = (name: string) => void change(view.id, "rename the instrument", [{ fact: "name", value: name }]).catch(sayError);
  const back = (way: "undo" | "redo") => {
    const path = { params: { path: { id: view.id } } };
    // After what was done just now, which may be on its way.
    void inLine(view.id, async () =>
      answer(await (way === "undo" ? api.POST("/api/instruments/{id}/undo", path) : api.POST("/api/instruments/{id}/redo", path))),
    )
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
    <header className="flex h-[52px] shrink-0 items-center gap-3 border-b border-line bg-sheet px-4">
      <Brand />
      <div className="w-[180px] min-w-0 leading-tight">
        <h1>
          <button
            className="block max-w-full truncate font-semibold hover:underline"
            title="Rename the instrument"
            onClick={() => setNaming(true)}
          >
            {view.name}
          </button>
        </h1>
        <AskName title="Rename" open={naming} value={view.name} onClose={() => setNaming(false)} onKeep={rename} />
        <p className="truncate text-[11.5px] text-ink3">
          kept {new Date(view.kept_at).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit" })}
        </p>
      </div>
      <nav aria-label="Steps" className="flex flex-1 justify-center gap-0.5 2xl:gap-2">
        {STEPS.map((name) => (
          <Link
            key={name}
            to="/instruments/$id/$step"
            params={{ id: String(view.id), step: name }}
            aria-current={name === step ? "step" : undefined}
            className={`rounded-lg px-2 py-1.5 font-medium whitespace-nowrap capitalize ${name === step ? "bg-act-soft text-ink" : "text-ink2"}`}
          >
            {name}
            {(left?.[name] ?? 0) > 0 && (
              <span className="ml-1 align-super text-[10px] text-warn" title={`${left![name]} left to look at: W goes there`}>
                {left![name]}
                <span className="sr-only"> left to look at</span>
              </span>
            )}
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
          className={`button ${midi ? "on" : ""}`}
          aria-pressed={midi}
          title={midi ? "MIDI keyboards are heard: a click ends it" : "Play from a MIDI keyboard"}
          onClick={() => {
            if (midi) return stopMidi();
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
              .catch(sayError);
          }}
        >
          MIDI
        </button>
        <Settings />
      </div>
    </header>
  );
}
