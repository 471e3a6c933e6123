// A walk along the keys, one after another, as the engine plays them, beside what their neighbours tell.
import { useEffect, useEffectEvent, useMemo, useRef, useState } from "react";
import type { InstrumentView } from "../api/client";
import type { Findings } from "../model/findings";
import { inWords, keyName } from "../model/keys";
import { halts, heardLines, markNumber, standsOut, stations, type Way } from "../model/walk";
import { Choice } from "../parts/Choice";
import { isWritten } from "../parts/letters";
import { Popup } from "../parts/Popup";
import { notesOf, usePhrases } from "../sound/phrase";
import { follow, rewind, step, toggle, useWalking } from "../sound/walking";
import { change } from "../state/edits";
import { sayError, useView } from "../state/view";

export function Walk({ view, found }: { view: InstrumentView; found: Findings }) {
  const [way, setWay] = useState<Way>("up");
  const [strike, setStrike] = useState<number | undefined>(() => found.keys.at(-1)?.strike);
  const { dry, setDry, heardWhat, setHeardWhat } = useView();
  const { at, begun, goes, pace, chord, stops } = useWalking();
  // Whoever chose something goes on with the same hand.
  const goButton = useRef<HTMLButtonElement>(null);
  const { kept, place, channel } = usePhrases();
  const all = useMemo(
    () => stations(found.keys, way, strike, notesOf(kept[place], channel)),
    [found.keys, way, strike, kept, place, channel],
  );
  useEffect(() => follow({ all, keys: found.keys, halts: (here, before) => halts(found.findings, here, before) }), [all, found]);
  const station = all[Math.min(at, all.length - 1)];
  const out = station && begun ? standsOut(found.findings, station) : [];
  const strikes = [...new Set(found.keys.map((one) => one.strike))].toSorted((a, b) => a - b);
  const mark = (says: string) => {
    if (!station) return;
    const name = `${keyName(station.key)} struck ${station.strike}`;
    void change(view.id, `mark ${name}`, [{ mark: markNumber(station), fact: "mark", value: says }]).catch(sayError);
  };
  // One hand steers it, wherever the focus is: letters that are typed stay letters.
  const pressed = useEffectEvent((event: KeyboardEvent) => {
    const isTick = event.target instanceof HTMLInputElement && event.target.type === "checkbox";
    if ((isWritten(event) && !isTick) || event.ctrlKey || event.metaKey || event.altKey) return;
    const isButton = event.target instanceof HTMLElement && event.target.closest("button,a") !== null;
    const acts: Record<string, (() => void) | undefined> = {
      ArrowUp: () => step(way === "down" ? -1 : 1),
      ArrowDown: () => step(way === "down" ? 1 : -1),
      ArrowRight: () => step(1),
      ArrowLeft: () => step(-1),
      " ": isButton || isTick ? undefined : toggle,
      Enter: isButton ? undefined : () => mark("Marked by ear."),
    };
    const act = acts[event.key];
    if (!act) return;
    event.preventDefault();
    event.stopPropagation();
    if (!event.repeat || event.key.startsWith("Arrow")) act();
  });
  useEffect(() => {
    const down = (event: KeyboardEvent) => pressed(event);
    window.addEventListener("keydown", down, true);
    return () => {
      window.removeEventListener("keydown", down, true);
      rewind();
      useView.getState().setDry(false);
    };
  }, []);

  if (found.keys.length === 0) {
    return <p className="card p-4 text-ink2">Nothing sounds yet, or it is still being listened to: a walk goes along keys that sound.</p>;
  }
  return (
    <div className="card flex flex-col gap-3 p-3" data-part="walk">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <Choice
          then={goButton}
          label="Way"
          value={way}
          options={[
            { value: "up", name: "Up the keys" },
            { value: "down", name: "Down the keys" },
            { value: "phrase", name: "Along the phrase" },
          ]}
          onChange={(to) => {
            rewind();
            setWay(to);
          }}
        />
        {way !== "phrase" && (
          <Choice
            then={goButton}
            label="Strike"
            value={String(strike ?? "each")}
            options={[...strikes.map((one) => ({ value: String(one), name: `struck ${one}` })), { value: "each", name: "each in turn" }]}
            onChange={(to) => {
              rewind();
              setStrike(to === "each" ? undefined : Number(to));
            }}
          />
        )}
        <Choice
          then={goButton}
          label="Pace"
          value={pace}
          options={[
            { value: "slow", name: "slow" },
            { value: "even", name: "even" },
            { value: "quick", name: "quick" },
          ]}
          onChange={(to) => useWalking.setState({ pace: to })}
        />
        <Tick label="In a chord" on={chord} set={(to) => useWalking.setState({ chord: to })} />
        <Tick label="Without effects" on={dry} set={setDry} />
        <Tick label="Stop at what stands out" on={stops} set={(to) => useWalking.setState({ stops: to })} />
      </div>
      {way === "phrase" && all.length === 0 && (
        <p className="text-ink2">No note of the phrase below is on a key that sounds. Bring a MIDI file with Phrase, or play one.</p>
      )}
      {station && (
        <>
          <div className="flex items-center gap-3">
            <button ref={goButton} className="button act !px-4" onClick={toggle}>
              {goes ? "Stop" : begun && at + 1 < all.length ? "Go on" : "Walk"}
            </button>
            <button className="button" aria-label="One back" onClick={() => step(-1)}>
              ←
            </button>
            <button className="button" aria-label="One on" onClick={() => step(1)}>
              →
            </button>
            <p className="text-[20px] font-semibold" data-part="walked" role="status">
              {keyName(station.key)} <span className="text-[13px] font-normal text-ink2">struck {station.strike}</span>
            </p>
            <span className="num grow text-right text-ink3">
              {Math.min(at, all.length - 1) + 1} of {all.length}
            </span>
            <Popup button="Mark" title={`Mark ${keyName(station.key)} struck ${station.strike}`}>
              {(close) => (
                <Marking
                  keep={(says) => {
                    mark(says);
                    close();
                  }}
                />
              )}
            </Popup>
          </div>
          <table className="num text-left text-[12.5px]">
            <thead className="text-ink3">
              <tr>
                <th className="font-normal">as heard</th>
                <th className="font-normal">is</th>
                <th className="font-normal">neighbours tell</th>
                <th className="font-normal">apart</th>
              </tr>
            </thead>
            <tbody>
              {heardLines(found, station).map(({ what, is, expected, off }) => (
                <tr key={what}>
                  <td className="text-ink2">{what}</td>
                  <td>{is}</td>
                  <td>{expected}</td>
                  <td>{off}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {out.length > 0 && (
            <ul className="space-y-1" data-part="stands out">
              {out.map((finding) => (
                <li key={finding.key} className="rounded-[6px] bg-chosen px-2 py-1">
                  <b className="font-semibold">{finding.title}</b> {inWords(finding.says)}
                </li>
              ))}
            </ul>
          )}
        </>
      )}
      <div className="flex flex-wrap items-center gap-2 text-[12px] text-ink3">
        <Choice
          then={goButton}
          label="Beside the board"
          value={heardWhat}
          options={[
            { value: "level_dbfs", name: "level" },
            { value: "cents", name: "pitch" },
            { value: "brightness_key", name: "brightness" },
          ]}
          onChange={setHeardWhat}
        />
        <span className="grow" />
        Space goes and stops, arrows step, Enter marks
      </div>
    </div>
  );
}

function Tick({ label, on, set }: { label: string; on: boolean; set: (on: boolean) => void }) {
  return (
    <label className="flex items-center gap-1.5">
      <input type="checkbox" checked={on} onChange={(event) => set(event.target.checked)} />
      {label}
    </label>
  );
}

function Marking({ keep }: { keep: (says: string) => void }) {
  const [says, setSays] = useState("");
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        keep(says.trim() || "Marked by ear.");
      }}
    >
      <label className="block text-[12px] text-ink2">
        What is heard there
        <input className="written mt-1" value={says} maxLength={200} onChange={(event) => setSays(event.target.value)} />
      </label>
      <button className="button act mt-2">Mark it</button>
    </form>
  );
}
