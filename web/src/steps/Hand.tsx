// By hand: a page that can be read from across the room.
import { useEffect, useEffectEvent, useState } from "react";
import { findMidi, type FootAct, hearMidi, type Learnt, useChoices } from "../devices/devices";
import { layerOf, passOf, roundRobinsOf } from "../model/cells";
import { chordAt, hzOfKey, inWords, keyName } from "../model/keys";
import { centsShort, count, db, duration } from "../model/units";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { Needle } from "../parts/Needle";
import { player } from "../sound/player";
import { usePending } from "../state/pending";
import { useSettings } from "../state/settings";
import { sayError, useView } from "../state/view";
import { isGoing, LevelMeter, type RecordProps } from "./recording";
import { RigSpeed, type Speed } from "./RigSpeed";
import { beginRun, type Order, tell } from "./run";

const REFERENCE_MS = 1200;

/** Whether a message presses or releases what was learnt; `undefined` where it is another's. A pedal is down from the middle on (MIDI 1.0). */
function pressOf(learnt: Learnt | undefined, [status = 0, number = 0, value = 0]: Uint8Array): boolean | undefined {
  if (!learnt || learnt.number !== number) return undefined;
  const kind = status & 0xf0;
  if (learnt.kind === "controller") return kind === 0xb0 ? value >= 64 : undefined;
  return kind === 0x90 ? value > 0 : kind === 0x80 ? false : undefined;
}

export function ByHand({ view, progress, cells }: RecordProps) {
  const [reference, setReference] = useState<"none" | "sine" | "take">("none");
  const [beats, setBeats] = useState("0");
  const [handsFree, setHandsFree] = useState(true);
  const [speed, setSpeed] = useState<Speed>("full");
  const [tempo, setTempo] = useState(100);
  const beatMs = Math.round(60_000 / tempo);
  const going = isGoing(progress);
  const [pending, begin] = usePending();
  const missing = cells.filter((cell) => !cell.take).length;
  const simulated = view.plan.source.rig !== "page";
  const order = (name: Order) => void tell(view.id, name).catch(sayError);
  const orderByHand = useEffectEvent(order);
  const counted = useCount(going ? progress.asked : 0, reference === "none" ? 0 : REFERENCE_MS, Number(beats), beatMs);
  const deciding = going && progress.state === "deciding";
  const tuning = going && progress.state === "tuning";

  // The reference sounds as soon as a note is asked for; what is heard meanwhile does not count.
  const refer = useEffectEvent(() => {
    if (!progress?.cell || reference === "none") return undefined;
    const { key, layer } = progress.cell;
    const before = [...view.takes].reverse().find((t) => t.chosen && t.cell.layer === layer && t.facts);
    if (reference === "take" && before) {
      const first = before.treatment?.start_frame ?? 0;
      const end = first + Math.round(before.rate_hz * 1.1);
      const url = `/api/takes/${before.id}/audio?first=${first}&end=${end}`;
      void player.hear({ url, rate: before.rate_hz, channels: before.channels }).catch(sayError);
    } else {
      void player.reference(hzOfKey(key)).catch(sayError);
      const timer = setTimeout(() => void player.reference(undefined), REFERENCE_MS - 150);
      return () => {
        clearTimeout(timer);
        void player.reference(undefined);
      };
    }
    return undefined;
  });
  // Once for each time that a note is asked for.
  const asked = going ? progress.asked : 0;
  useEffect(() => (asked > 0 ? refer() : undefined), [asked]);

  const foot = useChoices((state) => state.foot);
  useEffect(() => {
    if (!going) return undefined;
    const acts: Record<FootAct, Order> = { keep: "keep", again: "again", skip: "skip" };
    // One press is one order, however many values a pedal sends on its way down.
    const down = new Set<FootAct>();
    const stop = hearMidi((bytes) => {
      for (const act of Object.keys(acts) as FootAct[]) {
        const pressed = pressOf(foot[act], bytes);
        if (pressed === undefined) continue;
        if (pressed && !down.has(act)) orderByHand(acts[act]);
        if (pressed) down.add(act);
        else down.delete(act);
      }
    });
    const keys = (event: KeyboardEvent) => {
      if (event.repeat || event.target instanceof HTMLInputElement || event.ctrlKey || event.metaKey || useView.getState().playKeys) return;
      if (!useSettings.getState().letterKeys) return;
      const act = ({ k: "keep", a: "again", s: "skip", b: "back", t: tuning ? "record" : "tune" } as const)[event.key.toLowerCase() as "k"];
      if (act) orderByHand(act);
    };
    window.addEventListener("keydown", keys);
    return () => {
      stop();
      window.removeEventListener("keydown", keys);
    };
  }, [going, tuning, foot]);

  const pass = progress?.cell ? passOf(view.plan, progress.cell) : undefined;
  const layer = progress?.cell ? layerOf(view.plan, progress.cell) : undefined;
  // A chord is asked for with all its notes.
  const chord = progress?.cell && pass?.chord?.length ? `${chordAt(pass.chord, progress.cell.key)} · ` : "";
  const robins = progress?.cell && pass ? roundRobinsOf(pass, layer) : 1;
  const turns = progress?.cell && robins > 1 ? ` · ${progress.cell.round_robin + 1} of ${robins}` : "";
  // While it is tuned, what was heard in the last take is of no use.
  const verdict = tuning ? undefined : progress?.verdict;
  const good = verdict != null && verdict.findings.length === 0;
  return (
    <>
      <div
        className="card flex flex-col items-center gap-1 px-5 py-4 text-center"
        data-part="prompt"
        data-state={progress?.state ?? "none"}
      >
        <p className="text-[17px] text-ink2" aria-live="polite">
          {going && progress.total === 0
            ? "Sound check"
            : !going
              ? missing === 0
                ? "Every cell has a good take"
                : "Ready when you are"
              : progress.state === "listening"
                ? "Quiet please: listening to the room"
                : progress.state === "settling"
                  ? "Wait: it still sounds"
                  : progress.state === "waiting"
                    ? (counted ?? (reference !== "none" ? "Listen, then play" : "Play"))
                    : progress.state === "recording"
                      ? "Let it ring"
                      : progress.state === "tuning"
                        ? "Strike it and tune: nothing is kept"
                        : progress.state === "deciding"
                          ? "Keep it?"
                          : "Paused"}
        </p>
        <p className="text-[112px] leading-none font-semibold tracking-tight">
          {going && progress.cell ? keyName(progress.cell.key) : missing === 0 ? "✓" : "–"}
        </p>
        <p className="text-[28px] leading-tight text-ink2">
          {going && progress.cell ? `${chord}${layer?.name ?? ""}${turns}` : `${missing} of ${cells.length} cells to record`}
        </p>
        {going && progress.total > 0 && view.plan.kind !== "drum" && !chord && <Needle needle={progress.needle} />}
        <div className="my-2 w-full">
          <LevelMeter progress={progress} />
        </div>
        <p
          className={`min-h-[26px] text-[17px] font-medium ${verdict == null ? "" : good ? "text-act" : "text-mark"}`}
          aria-live="assertive"
          data-part="verdict"
        >
          {verdict == null
            ? ""
            : good
              ? `Good: ${verdict.key != null ? `${keyName(verdict.key)} ${centsShort(verdict.cents)}, ` : ""}${db(verdict.peak_dbfs)}`
              : `Again, please. ${inWords(verdict.sentences.join(" "))}`}
        </p>
      </div>
      <div className="card flex flex-col gap-3 p-3">
        <div className="flex justify-between">
          <span>
            {going ? `${progress.done} of ${progress.total} in this run` : `${cells.length - missing} of ${cells.length} recorded`}
          </span>
          <span className="num text-ink3">{going && progress.done > 0 ? `about ${duration(progress.seconds_left)} left` : ""}</span>
        </div>
        <progress className="h-2 w-full" value={cells.length - missing} max={Math.max(1, cells.length)} aria-label="Cells recorded" />
        {going ? (
          <div className="flex flex-wrap gap-2">
            <button className={`button ${deciding ? "act" : ""}`} disabled={!deciding} onClick={() => order("keep")}>
              Keep <kbd className="text-[11px] opacity-70">K</kbd>
            </button>
            <button className="button" onClick={() => order("again")}>
              Again <kbd className="text-[11px] opacity-70">A</kbd>
            </button>
            <button className="button" onClick={() => order("skip")}>
              Skip <kbd className="text-[11px] opacity-70">S</kbd>
            </button>
            <button className="button" onClick={() => order("back")}>
              Back <kbd className="text-[11px] opacity-70">B</kbd>
            </button>
            <button
              className={`button ${tuning ? "act" : ""}`}
              aria-pressed={tuning}
              title="What is struck meanwhile is heard and shown, and no take"
              onClick={() => order(tuning ? "record" : "tune")}
            >
              {tuning ? "Record it" : "Tune it first"} <kbd className="text-[11px] opacity-70">T</kbd>
            </button>
            <div className="grow" />
            <button
              className={`button ${progress.hands_free ? "on" : ""}`}
              aria-pressed={progress.hands_free}
              onClick={() => order(progress.hands_free ? "hands_on" : "hands_free")}
            >
              Hands-free
            </button>
            {progress.state === "paused" ? (
              <button className="button act" onClick={() => order("resume")}>
                Go on
              </button>
            ) : (
              <button className="button" onClick={() => order("pause")}>
                Pause
              </button>
            )}
            <button className="button" onClick={() => order("stop")}>
              Stop
            </button>
          </div>
        ) : (
          <div className="flex flex-wrap items-end gap-3">
            <button
              className="button act"
              disabled={missing === 0 || pending}
              onClick={() =>
                begin(() =>
                  beginRun(view, {
                    hands_free: handsFree,
                    real_time: speed === "real",
                    reference_ms: reference === "none" ? 0 : REFERENCE_MS,
                    count_in_ms: Number(beats) * beatMs,
                  }),
                )
              }
            >
              {missing < cells.length && missing > 0 ? `Go on with the ${missing} missing` : "Begin"}
            </button>
            <button
              className={`button ${handsFree ? "on" : ""}`}
              aria-pressed={handsFree}
              title="Good takes are kept and the next note is asked for; others are asked for again with the reason"
              onClick={() => setHandsFree(!handsFree)}
            >
              Hands-free
            </button>
            <div className="w-36">
              <Choice
                label="Before each note"
                value={reference}
                onChange={setReference}
                options={[
                  { value: "none", name: "just play" },
                  { value: "sine", name: "a plain tone" },
                  { value: "take", name: "the take before" },
                ]}
              />
            </div>
            <div className="w-28">
              <Choice
                label="Count-in"
                value={beats}
                onChange={setBeats}
                options={[
                  { value: "0", name: "none" },
                  { value: "2", name: "2 beats" },
                  { value: "4", name: "4 beats" },
                ]}
              />
            </div>
            {beats !== "0" && (
              <Field
                label="Beats a minute"
                width="90px"
                value={tempo}
                unit={count}
                onSet={(v) => setTempo(Math.min(300, Math.max(20, v)))}
              />
            )}
            {simulated && <RigSpeed speed={speed} onSet={setSpeed} />}
          </div>
        )}
        <FootSwitch />
      </div>
    </>
  );
}

/** Beats after the reference: a number while they are counted. */
function useCount(asked: number, after: number, beats: number, beatMs: number): string | undefined {
  const [beat, setBeat] = useState(0);
  useEffect(() => {
    if (asked === 0 || beats === 0) return undefined;
    // What is heard is timed by the audio clock; the number on the page may be late by a frame.
    const counting = player.countIn(beats, beatMs, after).catch((error: unknown) => (sayError(error), undefined));
    const timers = Array.from({ length: beats + 1 }, (_, n) => setTimeout(() => setBeat(n < beats ? n + 1 : 0), after + n * beatMs));
    return () => {
      void counting.then((stop) => stop?.());
      timers.forEach(clearTimeout);
      setBeat(0);
    };
  }, [asked, after, beats, beatMs]);
  return beat > 0 ? String(beat) : undefined;
}

const FOOT_ACTS: FootAct[] = ["keep", "again", "skip"];

/** Any note or controller can be learnt. */
function FootSwitch() {
  const { foot, set } = useChoices();
  const [learning, setLearning] = useState<FootAct | undefined>();
  useEffect(() => {
    if (!learning) return undefined;
    return hearMidi(([status = 0, number = 0, value = 0]) => {
      const kind = (status & 0xf0) === 0x90 ? "note" : (status & 0xf0) === 0xb0 ? "controller" : undefined;
      if (!kind || value === 0) return;
      set({ foot: { ...useChoices.getState().foot, [learning]: { kind, number } } });
      setLearning(undefined);
    });
  }, [learning, set]);
  const show = (learnt: Learnt | undefined) => (learnt ? `${learnt.kind} ${learnt.number}` : "not learnt");
  return (
    <div className="flex flex-wrap items-center gap-2 border-t border-line2 pt-2 text-[12px]">
      <span className="text-ink3">Foot-switch (MIDI)</span>
      {FOOT_ACTS.map((act) => (
        <button
          key={act}
          className={`button !py-1 ${learning === act ? "on" : ""}`}
          onClick={() =>
            void findMidi()
              .then(() => setLearning(learning === act ? undefined : act))
              .catch(sayError)
          }
        >
          {act}: <span className="num">{learning === act ? "press it now" : show(foot[act])}</span>
        </button>
      ))}
    </div>
  );
}
