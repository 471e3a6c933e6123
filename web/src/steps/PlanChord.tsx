// What is struck together at every rung: written, or played in on any keys.
import { useEffect, useEffectEvent, useState } from "react";
import { answer, api } from "../api/client";
import { chordAt } from "../model/keys";
import { Written } from "../parts/Written";
import { keyOfLetter, listenToMidi, player, useSound } from "../sound/player";
import { sayError } from "../state/view";
import type { Pass } from "./PlanForm";

export function Chord({ pass, set }: { pass: Pass; set: (values: Partial<Pass>) => void }) {
  const chord = pass.chord ?? [];
  const [listens, setListens] = useState(false);
  // The rung is one of its notes.
  const written = chord.length > 0 ? [...chord, 0].sort((a, b) => a - b).join(" ") : "";
  const keep = (text: string) => {
    void api
      .GET("/api/plan/chord", { params: { query: { text } } })
      .then((read) => set({ chord: answer(read) }))
      .catch(sayError);
    // Until it is understood, what was there stays.
    return false;
  };
  usePlayedIn(listens, (keys) => {
    setListens(false);
    set({ chord: keys.slice(1).map((key) => key - keys[0]!) });
  });
  return (
    <div className="col-span-3 flex items-end gap-3" data-part="chord">
      <Written
        label="Chord at every rung; none for one note"
        place="w-64"
        className="num"
        placeholder="0 4 7, C E G or min7"
        value={written}
        onKeep={keep}
      />
      <button
        className={`button ${listens ? "on" : ""}`}
        aria-pressed={listens}
        title="Hold the keys of the chord together and let them go: the lowest stands for the rung"
        onClick={() => {
          setListens(!listens);
          // Without a MIDI keyboard the ladder and the letter keys do.
          if (!listens) void listenToMidi().catch(() => undefined);
        }}
      >
        {listens ? "Hold its keys, then let go" : "Play it in"}
      </button>
      <span className="num pb-1 text-[12px] text-ink3">{chord.length > 0 && chordAt(chord, pass.rungs[0] ?? 60)}</span>
    </div>
  );
}

/** All keys that were held together, from low to high, once they are let go; the ladder's, the letters' and a MIDI keyboard's alike. */
function usePlayedIn(listens: boolean, onPlayed: (keys: number[]) => void) {
  const played = useEffectEvent(onPlayed);
  useEffect(() => {
    if (!listens) return undefined;
    let keys = new Set<number>();
    return useSound.subscribe(({ held }) => {
      held.forEach((key) => keys.add(key));
      // What was played in is given once, when the last key comes up.
      if (held.size > 0 || keys.size === 0) return;
      played([...keys].sort((a, b) => a - b));
      keys = new Set();
    });
  }, [listens]);
  // The letter keys play here, whatever else they do.
  useEffect(() => {
    if (!listens) return undefined;
    const play = (event: KeyboardEvent) => {
      const key = event.ctrlKey || event.metaKey || event.target instanceof HTMLInputElement ? undefined : keyOfLetter(event.code);
      if (key === undefined) return;
      event.stopImmediatePropagation();
      if (event.type === "keyup") player.off(key);
      else if (!event.repeat) void player.on(key, 100);
    };
    const kinds = ["keydown", "keyup"] as const;
    kinds.forEach((kind) => window.addEventListener(kind, play, true));
    return () => kinds.forEach((kind) => window.removeEventListener(kind, play, true));
  }, [listens]);
}
