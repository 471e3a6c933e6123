// Two sounds of the same, heard in one place: one of both, and the other by one key.
import { useEffect, useEffectEvent, useId } from "react";
import { isWritten } from "../parts/letters";
import { hearOther, type Pair, playBoth, setBlind, stopBoth, useBoth } from "../sound/both";
import { sayError } from "../state/view";

export function HearBoth({ pair }: { pair: Pair }) {
  const id = useId();
  const { plays: anyPlays, owner, heard, blind, even } = useBoth();
  const plays = anyPlays && owner === id;
  const play = () => void playBoth(pair, id).catch(sayError);
  const again = useEffectEvent(() => {
    if (plays) play();
  });
  const what = JSON.stringify(pair);
  useEffect(() => again(), [what, even]);
  useEffect(() => () => stopBoth(id), [id]);
  const pressed = useEffectEvent((event: KeyboardEvent) => {
    const isTick = event.target instanceof HTMLInputElement && event.target.type === "checkbox";
    if ((isWritten(event) && !isTick) || event.ctrlKey || event.metaKey || event.altKey || event.repeat) return;
    if (owner !== undefined && owner !== id) return;
    const isButton = event.target instanceof HTMLElement && event.target.closest("button,a") !== null;
    if (event.key === "Enter" && !isButton) hearOther();
    else if (event.key === " " && !isButton && !isTick) {
      if (plays) stopBoth();
      else play();
    } else return;
    event.preventDefault();
    // Where nothing was heard yet, the first on the page is meant.
    event.stopImmediatePropagation();
  });
  useEffect(() => {
    const down = (event: KeyboardEvent) => pressed(event);
    window.addEventListener("keydown", down, true);
    return () => window.removeEventListener("keydown", down, true);
  }, []);
  // Behind which name each stands while nobody is told.
  const order = blind?.crossed ? ([1, 0] as const) : ([0, 1] as const);
  const named = (which: 0 | 1, n: number) => (blind ? ["One", "The other"][n] : pair.sides[which].name);
  return (
    <div className="flex flex-wrap items-center gap-x-4 gap-y-2" data-part="hear both">
      <button className="button act !px-4" onClick={() => (plays ? stopBoth() : play())}>
        {plays ? "Stop" : "Hear both"}
      </button>
      <div className="flex gap-1" role="group" aria-label="What is heard">
        {order.map((which, n) => (
          <button
            key={which}
            className={`button ${heard === which ? "on" : ""}`}
            aria-pressed={heard === which}
            onClick={() => hearOther(which)}
          >
            {named(which, n)}
          </button>
        ))}
      </div>
      <label className="flex items-center gap-1.5">
        <input type="checkbox" checked={even} onChange={(event) => useBoth.setState({ even: event.target.checked })} />
        Equally loud
      </label>
      <label className="flex items-center gap-1.5">
        <input type="checkbox" checked={blind !== undefined} onChange={(event) => setBlind(event.target.checked)} />
        Blind
      </label>
      {blind && (
        <button className="button" onClick={() => setBlind(false)}>
          Which is which?
        </button>
      )}
      <span className="grow text-right text-[12px] text-ink3">Space plays and stops, Enter changes to the other</span>
    </div>
  );
}
