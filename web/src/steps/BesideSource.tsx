// How a source is heard: played over MIDI, or from a recording of it that is brought.
import { useState } from "react";
import type { InstrumentView, Progress, Schemas } from "../api/client";
import { scoreOf } from "../model/beside";
import { duration } from "../model/units";
import { Choice } from "../parts/Choice";
import { Popup } from "../parts/Popup";
import { usePhrases } from "../sound/phrase";
import { queries } from "../state/client";
import { change } from "../state/edits";
import { usePending } from "../state/pending";
import { besideQuery } from "../state/queries";
import { sayError } from "../state/view";
import { isGoing, LevelMeter } from "./recording";
import { LongTakes } from "./LongTakes";
import { RigSpeed, type Speed } from "./RigSpeed";
import { beginRun, tell } from "./run";

interface Props {
  view: InstrumentView;
  progress: Progress | undefined;
}

/** How the source is heard: played over MIDI, or from a recording of it. */
export function BesideSource({ view, progress }: Props) {
  const overMidi = (view.plan.source.how ?? "over_midi") === "over_midi";
  const going = isGoing(progress);
  const [played, setPlayed] = useState("notes");
  const [speed, setSpeed] = useState<Speed>("full");
  const [first, setFirst] = useState<[number, number] | undefined>();
  const [brings, setBrings] = useState(false);
  const [pending, begin] = usePending();
  const { kept, place, channel } = usePhrases();
  const phrase = kept[place];
  const notes = phrase
    ? scoreOf(
        phrase.events.filter(({ bytes }) => channel === undefined || (bytes[0]! & 0x0f) === channel),
        phrase.length_ms,
      )
    : [];
  const begins = async () => {
    const score = {
      notes: played === "phrase" ? notes : [],
      set_first: first ? [{ number: first[0], value: first[1] }] : [],
    };
    await beginRun(view, { what: "source", score, real_time: speed === "real" });
  };
  if (!overMidi || brings) {
    const back = overMidi ? () => setBrings(false) : undefined;
    return <Brought view={view} progress={progress} notes={notes} phrase={phrase?.name} back={back} />;
  }
  return (
    <div className="card flex flex-col gap-2 p-3">
      {going ? (
        <>
          <div className="flex items-center gap-3">
            <b className="grow font-semibold" role="status">
              The source plays: {progress.done} of {progress.total}
            </b>
            <span className="num text-ink3">{duration(progress.seconds_left)} left</span>
            <button className="button" onClick={() => void tell(view.id, "stop").catch(sayError)}>
              Stop
            </button>
          </div>
          <LevelMeter progress={progress} />
        </>
      ) : (
        <div className="flex flex-wrap items-end gap-2">
          <button className="button act" disabled={pending} onClick={() => begin(begins)}>
            Play it on the source
          </button>
          <Choice
            label="What is played"
            value={played}
            onChange={setPlayed}
            options={[
              { value: "notes", name: "notes and chords" },
              ...(notes.length > 0 ? [{ value: "phrase", name: `the phrase «${phrase?.name}»` }] : []),
            ]}
          />
          <Popup button={first ? `Controller ${first[0]} at ${first[1]}` : "Set on the source…"} title="Set on the source before it plays">
            {(close) => (
              <SetFirst
                now={first}
                keep={(to) => {
                  setFirst(to);
                  close();
                }}
              />
            )}
          </Popup>
          {view.plan.source.rig !== "page" && <RigSpeed speed={speed} onSet={setSpeed} />}
          <button className="button" onClick={() => setBrings(true)}>
            Bring a recording of it…
          </button>
        </div>
      )}
    </div>
  );
}

/** A controller of the source: its chorus, its filter. */
function SetFirst({ now, keep }: { now: [number, number] | undefined; keep: (to: [number, number] | undefined) => void }) {
  const [number, setNumber] = useState(String(now?.[0] ?? 93));
  const [value, setValue] = useState(String(now?.[1] ?? 127));
  const whole = (text: string, most: number) => (/^\d{1,3}$/.test(text.trim()) && Number(text) <= most ? Number(text) : undefined);
  const [of, to] = [whole(number, 119), whole(value, 127)];
  return (
    <form
      className="flex flex-col gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        if (of !== undefined && to !== undefined) keep([of, to]);
      }}
    >
      <label className="text-[12px] text-ink2">
        Controller, 0 to 119
        <input className="written mt-1" value={number} onChange={(event) => setNumber(event.target.value)} />
      </label>
      <label className="text-[12px] text-ink2">
        Its value, 0 to 127
        <input className="written mt-1" value={value} onChange={(event) => setValue(event.target.value)} />
      </label>
      <p className="text-[12px] text-ink3">93 is the depth of a chorus, 91 of a reverb, 74 brightness.</p>
      <div className="flex gap-2">
        <button className="button act" disabled={of === undefined || to === undefined}>
          Set it first
        </button>
        <button type="button" className="button" onClick={() => keep(undefined)}>
          Set nothing
        </button>
      </div>
    </form>
  );
}

interface BroughtProps extends Props {
  notes: Schemas["ScoreNote"][];
  phrase: string | undefined;
  /** To what is played by itself; nothing where that cannot be. */
  back: (() => void) | undefined;
}

/** A recording that was brought, with the phrase that it plays. */
function Brought({ view, progress, notes, phrase, back }: BroughtProps) {
  const [which, setWhich] = useState("");
  const [pending, begin] = usePending();
  const free = view.long_takes.filter((take) => !take.played_by);
  const chosen = free.find((take) => String(take.id) === which) ?? free.at(-1);
  const lay = async () => {
    if (!chosen) return;
    const value = { notes, set_first: [] };
    await change(view.id, `lay «${chosen.name}» beside it`, [{ longTake: chosen.id, fact: "played_by", value }]);
    await queries.invalidateQueries({ queryKey: besideQuery(view.id).queryKey });
  };
  return (
    <div className="card flex flex-col gap-2 p-3">
      <p className="text-ink2">
        Bring a recording of the source and, under Phrase below, the MIDI file that it plays: both begin together, within ten seconds.{" "}
        {back && (
          <button className="rounded px-1 underline hover:bg-line2" onClick={back}>
            Play it over MIDI instead
          </button>
        )}
      </p>
      <LongTakes view={view} progress={progress} cells={[]} brings />
      {chosen && (
        <div className="flex flex-wrap items-end gap-2">
          <Choice
            label="Recording"
            value={String(chosen.id)}
            onChange={setWhich}
            options={free.map(({ id, name, frames, rate_hz }) => ({ value: String(id), name: `${name} · ${duration(frames / rate_hz)}` }))}
          />
          <button className="button act" disabled={pending || notes.length === 0} onClick={() => begin(lay)}>
            {notes.length > 0 ? `It plays «${phrase}»` : "It plays a phrase: bring one below"}
          </button>
        </div>
      )}
    </div>
  );
}
