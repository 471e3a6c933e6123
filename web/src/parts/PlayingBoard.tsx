// A panel and its keys alone, in the full window: for whoever plays.
import { type ReactNode, useEffect, useState } from "react";
import type { Schemas } from "../api/client";
import type { Playable } from "../sound/home";
import { keyOfLetter, listenToMidi, player, stopMidi, useSound } from "../sound/player";
import { sayError } from "../state/view";
import { Choice } from "./Choice";
import { KeyboardInReach } from "./Keyboard";
import { isWritten } from "./letters";
import { PanelPage, useShown } from "./PanelPage";

/** As hard as letters strike. */
const LETTER_STRIKE = 100;

/** Letters play, wherever nobody writes: after a slider was moved, too. */
function useLetterKeys(): void {
  useEffect(() => {
    const down = new Set<string>();
    const press = (event: KeyboardEvent) => {
      const key = keyOfLetter(event.code);
      if (key === undefined || event.repeat || isWritten(event) || event.ctrlKey || event.metaKey || event.altKey) return;
      down.add(event.code);
      void player.on(key, LETTER_STRIKE).catch(sayError);
    };
    const lift = (event: KeyboardEvent) => {
      const key = keyOfLetter(event.code);
      if (key !== undefined && down.delete(event.code)) player.off(key);
    };
    window.addEventListener("keydown", press);
    window.addEventListener("keyup", lift);
    return () => {
      window.removeEventListener("keydown", press);
      window.removeEventListener("keyup", lift);
    };
  }, []);
}

interface Props {
  view: Playable;
  /** The kinds of effects. */
  kinds: Schemas["EffectView"][];
  /** What it is called, or what it is chosen by. */
  name: ReactNode;
  /** What stands at the end of the head. */
  end: ReactNode;
  /** What is said where there is no panel. */
  bare?: string;
}

export function PlayingBoard({ view, kinds, name, end, bare }: Props) {
  const { panel } = view;
  const [wanted, setWanted] = useState<number>();
  const shown = useShown(view, panel.pages);
  const pages = panel.pages.filter(({ id }) => shown.has(id));
  const page = pages.find(({ id }) => id === wanted) ?? pages[0];
  const midi = useSound((sound) => sound.midi);
  useEffect(() => {
    void player.show(view).catch(sayError);
  }, [view]);
  useLetterKeys();
  return (
    <div className="flex h-full flex-col">
      <header className="flex min-h-[44px] shrink-0 flex-wrap items-center gap-2 border-b border-line bg-sheet px-3 py-1">
        {name}
        {pages.length > 1 &&
          pages.map(({ id, name }) => (
            <button
              key={id}
              className={`button ${id === page?.id ? "on" : ""}`}
              aria-pressed={id === page?.id}
              onClick={() => setWanted(id)}
            >
              {name}
            </button>
          ))}
        <span className="grow" />
        {panel.presets.length > 0 && (
          <div className="w-40">
            <Choice
              quiet
              label="Kept values"
              value=""
              options={panel.presets.map(({ id, name }) => ({ value: String(id), name }))}
              onChange={(next) => {
                const preset = panel.presets.find(({ id }) => String(id) === next);
                if (preset) player.recall(preset);
              }}
            />
          </div>
        )}
        <button
          className={`button ${midi ? "on" : ""}`}
          aria-pressed={midi}
          onClick={() => (midi ? stopMidi() : void player.start().then(listenToMidi).catch(sayError))}
        >
          MIDI
        </button>
        {end}
      </header>
      <main className="flex min-h-0 flex-1 flex-col">
        <div className="min-h-0 flex-1 overflow-y-auto">
          <div className="mx-auto min-h-full max-w-[1180px]">
            {panel.parts.length > 0 ? (
              <PanelPage key={page?.id} view={view} kinds={kinds} page={page} rows={1} />
            ) : (
              bare && <p className="p-6 text-ink3">{bare}</p>
            )}
          </div>
        </div>
        <div className="h-[clamp(90px,22vh,200px)] shrink-0">
          <KeyboardInReach program={view.program} />
        </div>
      </main>
    </div>
  );
}
