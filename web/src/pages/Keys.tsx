// Keys of the computer that work on every step, and the list of them.
import { Dialog } from "radix-ui";
import { useNavigate } from "@tanstack/react-router";
import { useEffect, useRef, useState } from "react";
import type { InstrumentView } from "../api/client";
import { type BoardCell, layerOf } from "../model/cells";
import { alongSteps, type Findings, isLeft, nextOf, whereOf } from "../model/findings";
import { inWords } from "../model/keys";
import type { Step } from "../model/steps";
import { contains, placedRegions } from "../model/regions";
import { nextHeard } from "../model/formats";
import { type Plot, worstFirst } from "../parts/Board";
import { isTyped } from "../parts/letters";
import { keyOfLetter, player, useSound } from "../sound/player";
import { useSettings } from "../state/settings";
import { useMap } from "../state/map";
import { lookAtFinding } from "../state/looking";
import { sayError, useView } from "../state/view";

const SHORTCUTS = [
  ["Space", "play what is chosen; again to stop"],
  ["← → ↑ ↓", "walk the board"],
  ["W, Shift+W", "the worst of this step, then the next; after what Check found, on through the steps; and back"],
  ["R", "hear takes raw or treated"],
  ["H, Shift+H", "in Loop: hear the seam with shape and effects; without"],
  ["F", "keys play the whole, or what SFZ or a SoundFont will hold of it"],
  ["Ctrl+Z, Ctrl+Shift+Z", "undo, redo"],
  ["Ctrl+wheel", "zoom the ladder; the wheel alone scrolls it"],
  ["+ − ← → Home", "zoom and move the waveform, when it has the focus"],
  ["Z S X D C … Q 2 W …", "play notes, while Play keys is on"],
  ["K A S B T", "by hand: keep, again, skip, back, tune it first"],
  ["?", "this list"],
];

/** Keys that work on every step. */
interface KeysProps {
  view: InstrumentView;
  step: Step;
  cells: BoardCell[];
  plot: Plot | undefined;
  found: Findings | undefined;
}

export function Keys({ view, step, cells, plot, found }: KeysProps) {
  const navigate = useNavigate();
  const [open, setOpen] = useState(false);
  const [sounding, setSounding] = useState<number | undefined>();
  const lastWorst = useRef<string | undefined>(undefined);
  useEffect(
    () =>
      useSound.subscribe(({ struck }, before) => {
        if (!struck || struck === before.struck || !useView.getState().choosePlayed) return;
        choosePlayed(view, cells, struck);
      }),
    [view, cells],
  );
  useEffect(() => {
    const down = (event: KeyboardEvent) => {
      if (isTyped(event) || event.ctrlKey || event.metaKey || event.altKey) return;
      const { playKeys, focus, choose } = useView.getState();
      const note = playKeys ? keyOfLetter(event.code) : undefined;
      if (note !== undefined) {
        if (!event.repeat) void player.on(note, 100);
        return;
      }
      const cell = cells.find((c) => c.id === focus);
      const letter = useSettings.getState().letterKeys ? event.key.toLowerCase() : undefined;
      if (letter === "?") setOpen(true);
      else if (letter === "w" && found?.findings.some(isLeft)) {
        // On Check worst first; elsewhere from step to step, beginning with this one.
        const inOrder = step === "check" ? found.findings.filter(isLeft) : alongSteps(found.findings);
        const chosen = useView.getState().finding;
        const known = inOrder.some((one) => one.key === chosen);
        const here = inOrder.find((one) => one.step === step);
        const next = known ? nextOf(inOrder, chosen, event.shiftKey ? -1 : 1) : (here ?? inOrder[0]);
        if (!next) return;
        if (step !== "check" && next.step !== step) {
          void navigate({ to: "/instruments/$id/$step", params: { id: String(view.id), step: next.step } });
        }
        lookAtFinding(view, next);
        if (step !== "check") useView.getState().say(`${next.title}, ${whereOf(next)}: ${inWords(next.says)}`);
      } else if (letter === "w" && plot) {
        const order = worstFirst(plot, cells);
        const at = order.findIndex((c) => c.id === focus);
        // From elsewhere the walk begins with the worst.
        const walking = at >= 0 && lastWorst.current === focus;
        const next = order[walking ? Math.min(order.length - 1, Math.max(0, at + (event.shiftKey ? -1 : 1))) : 0];
        lastWorst.current = next?.id;
        if (next) choose(next.id, new Set([next.id]));
      } else if (letter === "r") useView.getState().setRaw(!useView.getState().raw);
      else if (letter === "f") useView.getState().setHeardAs(nextHeard(useView.getState().heardAs));
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
          const strike = layerOf(view.plan, cell.cell)?.strike_velocity ?? 100;
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
  }, [cells, view, sounding, plot, found, step, navigate]);
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

/** Chooses what a strike plays: its region on the map, and the cell of it. */
function choosePlayed(view: InstrumentView, cells: BoardCell[], { key, velocity }: { key: number; velocity: number }): void {
  const answers = placedRegions(view).flatMap((of) => {
    const { keys, strikes } = of.region.when;
    const cell = contains(keys, key) && contains(strikes, velocity) && cells.find(({ take }) => take !== undefined && take === of.take);
    return cell ? [{ of, cell }] : [];
  });
  const { focus, choose } = useView.getState();
  // What is on the bench stays there, whichever of its round robins sounds.
  const [first] = answers;
  if (!first || answers.some(({ cell }) => cell.id === focus)) return;
  choose(first.cell.id, new Set([first.cell.id]));
  useMap.getState().choose([first.of.id]);
}
