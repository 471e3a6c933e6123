// The instrument beside its source: the same notes on both, what they are apart, and what brings them nearer.
import { useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useEffectEvent, useRef, useState } from "react";
import { answer, api, type InstrumentView, type JobView, type Progress, type Schemas } from "../api/client";
import { apartLines, type Beside as BesideView, passageFigures, passageName, type PassageBeside, scoreOf, thirdHz } from "../model/beside";
import { counted, duration } from "../model/units";
import { Canvas, MONO, type Surface } from "../parts/canvas";
import { Choice } from "../parts/Choice";
import { Failed, JobBar } from "../parts/JobBar";
import { isWritten } from "../parts/letters";
import { Popup } from "../parts/Popup";
import { hearOther, playBoth, setBlind, stopBoth, useBoth } from "../sound/both";
import { usePhrases } from "../sound/phrase";
import { queries } from "../state/client";
import { act, change } from "../state/edits";
import { usePending } from "../state/pending";
import { besideQuery, makingsQuery } from "../state/queries";
import { sayError } from "../state/view";
import { isGoing, LevelMeter } from "./recording";
import { LongTakes } from "./LongTakes";
import { RigSpeed, type Speed } from "./RigSpeed";
import { beginRun, tell } from "./run";

/** While both are compared, what is known of them is looked at so often. */
const LOOK_AGAIN_MS = 1500;

interface Props {
  view: InstrumentView;
  progress: Progress | undefined;
}

export function Beside({ view, progress }: Props) {
  const jobs = useQuery(makingsQuery(view.id)).data?.filter((job) => job.kind === "beside");
  const job = jobs?.find(({ state }) => state === "running" || state === "waiting");
  // What both are apart is there before what brings them nearer was tried.
  const query = useQuery({ ...besideQuery(view.id), refetchInterval: job ? LOOK_AGAIN_MS : false });
  const [which, setWhich] = useState<string>("");
  const all = query.data;
  if (query.isError && !all) return <p className="card p-4 text-mark">{query.error.message}</p>;
  if (!all) return <p className="text-ink3">Looking…</p>;
  const one = all.find((beside) => String(beside.long_take) === which) ?? all[0];
  return (
    <div className="flex flex-col gap-3" data-part="beside">
      <TheSource view={view} progress={progress} />
      {all.length === 0 && (
        <p className="card p-4 text-ink2">
          Nothing lies beside it yet. The same notes and chords, softly and hard, are heard on its source and on what was built; what both
          are apart is told note by note, and what would bring them nearer can be taken with one act.
        </p>
      )}
      {all.length > 1 && (
        <Choice
          label="Recording of the source"
          value={String(one?.long_take)}
          onChange={setWhich}
          options={all.map(({ long_take, name, score }) => ({
            value: String(long_take),
            name: `${name} · ${counted(score.notes.length, "note")}`,
          }))}
        />
      )}
      {one && <Compared key={one.long_take} view={view} beside={one} job={job} last={jobs?.[0]} />}
    </div>
  );
}

/** How the source is heard: played over MIDI, or from a recording of it. */
function TheSource({ view, progress }: Props) {
  const overMidi = (view.plan.source.how ?? "over_midi") === "over_midi";
  const going = isGoing(progress);
  const [played, setPlayed] = useState("notes");
  const [speed, setSpeed] = useState<Speed>("full");
  const [first, setFirst] = useState<[number, number] | undefined>();
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
      recording_from_ms: 0,
    };
    await beginRun(view, { what: "source", score, real_time: speed === "real" });
  };
  if (!overMidi) return <Brought view={view} progress={progress} notes={notes} phrase={phrase?.name} />;
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
}

/** A recording that was brought, with the phrase that it plays. */
function Brought({ view, progress, notes, phrase }: BroughtProps) {
  const [which, setWhich] = useState("");
  const [pending, begin] = usePending();
  const free = view.long_takes.filter((take) => !take.played_by);
  const chosen = free.find((take) => String(take.id) === which) ?? free.at(-1);
  const lay = async () => {
    if (!chosen) return;
    const value = { notes, set_first: [], recording_from_ms: 0 };
    await change(view.id, `lay «${chosen.name}» beside it`, [{ longTake: chosen.id, fact: "played_by", value }]);
    await queries.invalidateQueries({ queryKey: besideQuery(view.id).queryKey });
  };
  return (
    <div className="card flex flex-col gap-2 p-3">
      <p className="text-ink2">
        Bring a recording of the source and, under Phrase below, the MIDI file that it plays: both begin together, within ten seconds.
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

interface ComparedProps {
  view: InstrumentView;
  beside: BesideView;
  job: JobView | undefined;
  last: JobView | undefined;
}

/** What both are apart; asked for anew where the instrument has changed. */
function Compared({ view, beside, job, last }: ComparedProps) {
  const { long_take, of, compared, tried } = beside;
  const compare = async (again: boolean) => {
    const path = { id: view.id, long_take };
    answer(await api.POST("/api/instruments/{id}/beside/{long_take}", { params: { path, query: { again } } }));
    await queries.invalidateQueries({ queryKey: makingsQuery(view.id).queryKey });
  };
  const ask = useEffectEvent(() => void compare(false).catch(sayError));
  const lacks = compared !== of && !job;
  useEffect(() => {
    if (lacks) ask();
  }, [lacks, of]);
  const failed = !job && last?.state === "failed" ? last : undefined;
  const isLacking = !job && last?.state === "cancelled" && (compared !== of || !tried);
  const [pending, begin] = usePending();
  const [chosen, setChosen] = useState<number | undefined>();
  return (
    <>
      {job && (
        <div className="card flex items-center gap-3 p-3" role="status">
          <span>{compared === of ? "Trying what brings both nearer" : "Comparing both"}</span>
          <JobBar job={job} width="flex-1" cancelled="Cancelled." />
        </div>
      )}
      {failed && <Failed jobs={[failed]} />}
      {isLacking && (
        <button className="button self-start" disabled={pending} onClick={() => begin(() => compare(true))}>
          {compared === of ? "Try what brings both nearer" : "Compare them"}
        </button>
      )}
      {compared && beside.passages.length > 0 && (
        <>
          <Hear view={view} beside={beside} chosen={chosen} />
          <Match view={view} beside={beside} fresh={compared === of && tried} />
          <Passages beside={beside} chosen={chosen} setChosen={setChosen} />
        </>
      )}
    </>
  );
}

/** One of both, and the other by one key. */
function Hear({ view, beside, chosen }: { view: InstrumentView; beside: BesideView; chosen: number | undefined }) {
  const { plays, heard, blind, even } = useBoth();
  const sides = Math.min(2, view.long_takes.find(({ id }) => id === beside.long_take)?.channels ?? 2);
  const play = () => void playBoth(view.id, beside, sides, chosen).catch(sayError);
  const again = useEffectEvent(() => {
    if (useBoth.getState().plays) play();
  });
  useEffect(() => again(), [chosen, even, beside.of]);
  useEffect(() => () => stopBoth(), []);
  const pressed = useEffectEvent((event: KeyboardEvent) => {
    const isTick = event.target instanceof HTMLInputElement && event.target.type === "checkbox";
    if ((isWritten(event) && !isTick) || event.ctrlKey || event.metaKey || event.altKey || event.repeat) return;
    const isButton = event.target instanceof HTMLElement && event.target.closest("button,a") !== null;
    if (event.key === "Enter" && !isButton) hearOther();
    else if (event.key === " " && !isButton && !isTick) {
      if (plays) stopBoth();
      else play();
    } else return;
    event.preventDefault();
    event.stopPropagation();
  });
  useEffect(() => {
    const down = (event: KeyboardEvent) => pressed(event);
    window.addEventListener("keydown", down, true);
    return () => window.removeEventListener("keydown", down, true);
  }, []);
  // Behind which name each stands while nobody is told.
  const first = !blind || blind.oneIsSource ? "source" : "built";
  const names = blind ? ["One", "The other"] : ["Source", "Built"];
  const both = [first, first === "source" ? "built" : "source"] as const;
  return (
    <div className="card flex flex-wrap items-center gap-x-4 gap-y-2 p-3" data-part="hear both">
      <button className="button act !px-4" onClick={() => (plays ? stopBoth() : play())}>
        {plays ? "Stop" : "Hear both"}
      </button>
      <div className="flex gap-1" role="group" aria-label="What is heard">
        {both.map((which, n) => (
          <button
            key={which}
            className={`button ${heard === which ? "on" : ""}`}
            aria-pressed={heard === which}
            onClick={() => hearOther(which)}
          >
            {names[n]}
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

/** What brings both nearer, each taken with one act. */
function Match({ view, beside, fresh }: { view: InstrumentView; beside: BesideView; fresh: boolean }) {
  const [pending, begin] = usePending();
  const take = (what: Schemas["ProposalView"]["what"]) =>
    begin(async () => {
      const path = { id: view.id, long_take: beside.long_take };
      await act(view.id, async () =>
        answer(await api.POST("/api/instruments/{id}/beside/{long_take}/match", { params: { path }, body: { what: what ?? null } })),
      );
      await queries.invalidateQueries({ queryKey: besideQuery(view.id).queryKey });
    });
  const all = beside.together ?? beside.proposals[0];
  const helps = (after: Schemas["Apart"]) => after.all_db < beside.before.all_db;
  const nearer = (after: Schemas["Apart"]) => `${beside.before.all_db.toFixed(1)} → ${after.all_db.toFixed(1)} dB apart`;
  return (
    <div className="card flex flex-col gap-2 p-3" data-part="match">
      <div className="flex items-start gap-6">
        <table className="num shrink-0 text-left text-[12.5px]">
          <thead className="text-ink3">
            <tr>
              <th className="pr-4 font-normal">apart</th>
              <th className="pr-4 font-normal">now</th>
              <th className="font-normal">{all ? "matched" : ""}</th>
            </tr>
          </thead>
          <tbody>
            {apartLines(beside.before, all?.after).map(({ what, now, then }) => (
              <tr key={what}>
                <td className="pr-4 text-ink2">{what}</td>
                <td className="pr-4">{now}</td>
                <td>{then}</td>
              </tr>
            ))}
          </tbody>
        </table>
        <div className="min-w-0 grow">
          {beside.tried && beside.proposals.length === 0 && (
            <p className="text-ink2">
              {beside.before.all_db < 1.5
                ? "Both are as near as one needs: nothing that was tried brings them nearer."
                : "Nothing that was tried brings both nearer."}
            </p>
          )}
          <ul className="space-y-1.5" aria-label="What brings both nearer">
            {beside.proposals.map(({ what, says, after }) => (
              <li key={what} className="flex items-start gap-2" data-part="proposal">
                <span className="min-w-0 grow">
                  {says[0]?.toUpperCase()}
                  {says.slice(1)}
                  <span className="num block text-[12px] text-ink3">
                    {helps(after) ? `by itself ${nearer(after)}` : "only together with the others"}
                  </span>
                </span>
                {helps(after) && (
                  <button className="button shrink-0" disabled={pending || !fresh} onClick={() => take(what)}>
                    Take it
                  </button>
                )}
              </li>
            ))}
          </ul>
          {beside.together && (
            <div className="mt-2 flex items-center gap-2">
              <button className="button act" disabled={pending || !fresh} onClick={() => take(null)}>
                Take the match
              </button>
              <span className="num text-[12px] text-ink3">{nearer(beside.together.after)}</span>
            </div>
          )}
        </div>
      </div>
      <p className="text-[12px] text-ink3">
        {beside.judged_by_same
          ? "Found and judged by the same notes: there are too few to keep some back."
          : "Judged by notes and chords that it was not found by, those with a dot."}
      </p>
    </div>
  );
}

function Passages({
  beside,
  chosen,
  setChosen,
}: {
  beside: BesideView;
  chosen: number | undefined;
  setChosen: (n: number | undefined) => void;
}) {
  const one = chosen === undefined ? undefined : beside.passages[chosen];
  const list = useRef<HTMLUListElement>(null);
  return (
    <div className="card flex min-h-0 flex-col gap-2 p-3" data-part="passages">
      <div className="flex items-center gap-2">
        <b className="grow font-semibold">
          {one ? passageName(one) : "All passages"} <span className="font-normal text-ink3">the source over what was built</span>
        </b>
        {one && (
          <button className="button" onClick={() => setChosen(undefined)}>
            All of them
          </button>
        )}
      </div>
      {one && <p className="num text-[12.5px]">{passageFigures(one).join(" · ")}</p>}
      <Spectrum passages={one ? [one] : beside.passages} />
      <ul ref={list} aria-label="Passages" className="flex flex-wrap gap-1">
        {beside.passages.map((passage, n) => (
          <li key={n}>
            <button
              className={`button num !text-[12px] ${n === chosen ? "on" : ""}`}
              aria-pressed={n === chosen}
              title={passageFigures(passage).join(" · ")}
              onClick={() => setChosen(n === chosen ? undefined : n)}
            >
              {passageName(passage)}
              {passage.judges && <span className="ml-1 text-act">•</span>}
            </button>
          </li>
        ))}
      </ul>
    </div>
  );
}

/** So many dB are drawn. */
const SPAN_DB = 60;

/** The mean of what is heard of some passages in each third of an octave; nothing where none tells. */
function meanBands(passages: PassageBeside[], of: "source" | "built"): (number | undefined)[] {
  const width = passages[0]?.source.bands_db.length ?? 0;
  return Array.from({ length: width }, (_, n) => {
    const known = passages.flatMap((passage) => {
      const value = passage[of].bands_db[n];
      return value == null ? [] : [value];
    });
    return known.length > 0 ? known.reduce((a, b) => a + b, 0) / known.length : undefined;
  });
}

/** Thirds of octaves of both: the source as a line, what was built dashed. */
function Spectrum({ passages }: { passages: PassageBeside[] }) {
  const draw = useCallback(
    ({ ctx, width, height, colours }: Surface) => {
      const both = [meanBands(passages, "source"), meanBands(passages, "built")];
      const top = Math.ceil(Math.max(-60, ...both.flat().filter((db) => db !== undefined)) / 10) * 10;
      const bands = both[0]!.length;
      const [left, bottom] = [34, 16];
      const x = (n: number) => left + ((n + 0.5) / bands) * (width - left - 6);
      const y = (db: number) => ((top - db) / SPAN_DB) * (height - bottom);
      ctx.font = MONO;
      ctx.textBaseline = "middle";
      ctx.fillStyle = colours.ink3;
      ctx.strokeStyle = colours.line2;
      for (let db = top - 10; db > top - SPAN_DB; db -= 10) {
        ctx.beginPath();
        ctx.moveTo(left, y(db));
        ctx.lineTo(width - 6, y(db));
        ctx.stroke();
        if (db % 20 === 0) ctx.fillText(String(db), 2, y(db));
      }
      ctx.textAlign = "center";
      for (const hz of [50, 100, 200, 500, 1000, 2000, 5000, 10000]) {
        const n = Math.log10(hz / thirdHz(0)) * 10;
        ctx.fillText(hz < 1000 ? String(hz) : `${hz / 1000}k`, x(n), height - 6);
      }
      ctx.textAlign = "left";
      both.forEach((values, which) => {
        ctx.strokeStyle = which === 0 ? colours.ink : colours.act;
        ctx.lineWidth = 1.6;
        ctx.setLineDash(which === 0 ? [] : [5, 4]);
        ctx.beginPath();
        let down = false;
        values.forEach((db, n) => {
          if (db === undefined) {
            down = false;
            return;
          }
          if (down) ctx.lineTo(x(n), Math.min(y(db), height - bottom));
          else ctx.moveTo(x(n), Math.min(y(db), height - bottom));
          down = true;
        });
        ctx.stroke();
      });
      ctx.setLineDash([]);
    },
    [passages],
  );
  return (
    <figure>
      <div className="relative h-[150px]">
        <Canvas draw={draw} className="size-full" role="img" aria-label="Thirds of octaves of both" />
      </div>
      <figcaption className="text-[12px] text-ink3">
        Thirds of octaves in dBFS while keys are held: source, and what was built dashed
      </figcaption>
    </figure>
  );
}
