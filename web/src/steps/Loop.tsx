// Where each take is looped, and what its seam is worth.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Schemas, type TakeLoop, type TakeView } from "../api/client";
import { change } from "../state/edits";
import { standsOut } from "../model/cells";
import { takeId } from "../model/regions";
import { db, signedDb } from "../model/units";
import { Badge, BenchHead, type OnBench } from "../parts/Bench";
import type { Plot } from "../parts/Board";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { Written } from "../parts/Written";
import { UseOnMore } from "../parts/UseOnMore";
import { useDrawableTake, Waveform } from "../parts/Waveform";
import { keyName } from "../model/keys";
import { player } from "../sound/player";
import { useTimeUnit } from "../state/settings";
import { sayError, useView } from "../state/view";
import { Seam } from "./Seam";
import { HearButton, velocityOf } from "./Trim";

/** A seam that stands out by more than this is to be checked, by more than that it is wrong. */
const CHECK_DB = 0.05;
const WRONG_DB = 3;
const STANDS_OUT =
  "How much more the sound changes at its seam than it does by itself: at 0 dB and under it cannot be told from the sound.";

export const loopPlot: Plot = {
  title: "stands out",
  low: -6,
  high: 6,
  line: CHECK_DB,
  value: standsOut,
  show: (value) => signedDb(value),
  verdict: (value, _, take) => (value > WRONG_DB ? 2 : value > CHECK_DB || take?.missing.includes("loop_length") ? 1 : 0),
  missing: { what: "loop", says: "nothing worth looping" },
};

/** Whether the seam of a take's loop is heard. */
export function standsOutWrongly(take: TakeView): boolean {
  return (standsOut(take) ?? CHECK_DB) > CHECK_DB;
}

/** What is told of a place to loop, a column each. */
const TOLD: { name: string; hint?: string; of: (place: Place, rate: number) => string }[] = [
  { name: "start", hint: "In seconds from the take's first frame", of: (l, rate) => (l.start_frame / rate).toFixed(3) },
  { name: "length", hint: "In seconds", of: (l, rate) => ((l.end_frame - l.start_frame) / rate).toFixed(3) },
  { name: "out", hint: STANDS_OUT, of: (l) => (l.audible_db == null ? "–" : bare(signedDb(l.audible_db))) },
  {
    name: "ends",
    hint: "The same where it stands out most, played three semitones under or over its root",
    of: (l) => (l.audible_ends_db == null ? "–" : bare(signedDb(l.audible_ends_db))),
  },
  { name: "seam", hint: "How unlike its ends are, in dB, before any crossfade", of: (l) => bare(db(l.seam_db, 0)) },
  { name: "drift", hint: "How far its level at the end lies from that at the start, in dB", of: (l) => l.drift_db.toFixed(1) },
  { name: "colour", hint: "How far its colour at the end lies from that at the start, in dB", of: (l) => (l.timbre_db ?? 0).toFixed(1) },
];

type Place = Schemas["LoopCandidate"];

function bare(text: string): string {
  return text.replace(" dB", "");
}

type Snap = "free" | "zero" | "likeness";
type Curve = "fitted" | "linear" | "equal_power";

/** Lengths to look for, in seconds. */
const LENGTHS: { value: string; name: string; of?: [number, number] }[] = [
  { value: "any", name: "of any length" },
  { value: "short", name: "up to half a second", of: [0.02, 0.5] },
  { value: "middle", name: "of half to two seconds", of: [0.5, 2] },
  { value: "long", name: "of two to six seconds", of: [2, 6] },
  { value: "longest", name: "of six seconds and more", of: [6, 60] },
];

/** Both ends of a loop. */
const ENDS = [
  { id: "start", name: "move the loop's start", frame: "start_frame", drag: "loop_start", side: "right" },
  { id: "end", name: "move the loop's end", frame: "end_frame", drag: "loop_end", side: "left" },
] as const;
const SNAPS: { value: Snap; name: string }[] = [
  { value: "free", name: "stays put" },
  { value: "zero", name: "to a rising zero" },
  { value: "likeness", name: "to what is alike" },
];
const CURVES: { value: Curve; name: string }[] = [
  { value: "linear", name: "linear" },
  { value: "equal_power", name: "equal power" },
];
const WAYS: { value: NonNullable<TakeLoop["way"]>; name: string }[] = [
  { value: "forward", name: "forward" },
  { value: "back_and_forth", name: "back and forth" },
];
const RUNS: { value: NonNullable<TakeLoop["runs"]>; name: string }[] = [
  { value: "through_release", name: "on through release" },
  { value: "while_held", name: "while held" },
];

/** Keys at which a loop runs slowest and fastest. */
const EDGES = [
  { which: "lowest", rounds: 3, title: "Where it runs slowest" },
  { which: "highest", rounds: 6, title: "Where it runs fastest" },
] as const;

/** Any length, as the server has it. */
const ANY: [number, number] = [0.1, 12];

const SEARCHED = "From where on loops are looked for, in all chosen: a share (50 %) or a time (1.5 s) from the start of the sound";

interface From {
  from_share?: number;
  from_s?: number;
}

/** From where on is searched, as it is typed: a share ("50 %") or a time ("1.5 s"); undefined where it is neither. */
function parseFrom(text: string): From | undefined {
  const match = /^\s*(\d+(?:[.,]\d+)?)\s*(%|s)?\s*$/.exec(text);
  if (text.trim() === "") return {};
  if (!match) return undefined;
  const value = Number(match[1]!.replace(",", "."));
  if (match[2] === "%") return value <= 100 ? { from_share: value / 100 } : undefined;
  return { from_s: value };
}

export function LoopBench({ on }: { on: OnBench }) {
  const { take, takes, view } = on;
  const [moving, setMoving] = useState<TakeLoop | undefined>();
  const [snap, setSnap] = useState<Snap>("free");
  const [length, setLength] = useState("any");
  const [from, setFrom] = useState<{ text: string; of: From }>({ text: "", of: {} });
  const raw = useView((state) => state.raw);
  const held = take.treatment;
  const drawable = useDrawableTake(take, raw);
  const unit = useTimeUnit(take.rate_hz);
  const now = moving ?? held?.loop ?? undefined;
  const period = take.facts?.pitch ? take.rate_hz / take.facts.pitch.hz : 200;
  // The keys it will serve: there the loop runs slowest and fastest.
  const regions = view.program.regions.filter((r) => takeId(view.program.samples[r.sample]?.source) === take.id);
  const edge = { lowest: Math.min(...regions.map((r) => r.when.keys.low)), highest: Math.max(...regions.map((r) => r.when.keys.high)) };
  const over = (key: number) => (regions.length > 0 && held ? key - held.root_key : undefined);
  const [lowest, highest] = [over(edge.lowest), over(edge.highest)];
  const judge = async (loop: TakeLoop, of: TakeView = take) => {
    const periodOf = of.facts?.pitch ? of.rate_hz / of.facts.pitch.hz : 200;
    return answer(
      await api.GET("/api/takes/{id}/seam", {
        params: {
          path: { id: of.id },
          query: {
            start: loop.start_frame,
            end: loop.end_frame,
            period: periodOf,
            crossfade: loop.crossfade_frames,
            likeness: loop.likeness_percent,
            ...(of === take && lowest !== undefined && highest !== undefined ? { lowest, highest } : {}),
          },
        },
      }),
    );
  };
  const seam = useQuery({
    queryKey: [
      "seam",
      take.id,
      take.cleaned,
      now?.start_frame,
      now?.end_frame,
      now?.crossfade_frames,
      now?.likeness_percent,
      lowest,
      highest,
    ],
    enabled: now !== undefined && now.end_frame > now.start_frame,
    staleTime: Infinity,
    gcTime: 30_000,
    placeholderData: (previous) => previous,
    queryFn: () => judge(now!),
  });
  const [shortest_s, longest_s] = LENGTHS.find((l) => l.value === length)?.of ?? ANY;
  const wanted = length === "any" && Object.keys(from.of).length === 0 ? undefined : { shortest_s, longest_s, ...from.of };
  const keepFrom = (text: string) => {
    const of = parseFrom(text);
    if (of) setFrom({ text, of });
    else sayError(new Error(`«${text}» is neither a share (50 %) nor a time (1.5 s); what was searched before still is.`));
    return of !== undefined;
  };
  const look = async (of: TakeView) => answer(await api.GET("/api/takes/{id}/loops", { params: { path: { id: of.id }, query: wanted! } }));
  const found = useQuery({
    queryKey: ["loops", take.id, take.cleaned, wanted],
    enabled: wanted !== undefined,
    staleTime: Infinity,
    queryFn: () => look(take),
  });
  if (!held) return <p className="text-ink3">This take is being measured.</p>;
  const places = wanted ? found.data : take.facts?.loops;
  const keep = (label: string, loop: TakeLoop | null | undefined, of: TakeView[] = [take]) =>
    change(
      view.id,
      label,
      of.map((t) => ({ take: t.id, fact: "loop" as const, value: loop })),
    )
      .catch(sayError)
      .finally(() => setMoving(undefined));
  /** With the curve that its ends want, unless another one was chosen. */
  const keepFitted = async (label: string, loop: TakeLoop) => {
    const likeness_percent = curve === "fitted" ? (await judge(loop)).likeness_percent : loop.likeness_percent;
    await keep(label, { ...loop, likeness_percent });
  };
  const moved = (id: string, frame: number): TakeLoop => {
    const base = now ?? { start_frame: held.start_frame, end_frame: held.end_frame, crossfade_frames: 0 };
    const next = { ...base, [id === "start" ? "start_frame" : "end_frame"]: frame };
    const crossfade_frames = Math.max(
      0,
      Math.min(next.crossfade_frames, next.start_frame - held.start_frame, next.end_frame - next.start_frame),
    );
    return { ...next, crossfade_frames };
  };
  const drop = async (id: string, frame: number) => {
    let next = moved(id, frame);
    if (next.start_frame >= next.end_frame) return setMoving(undefined);
    if (snap !== "free") {
      const [movedTo, fixed] = id === "start" ? [next.start_frame, next.end_frame] : [next.end_frame, next.start_frame];
      const to = answer(
        await api.GET("/api/takes/{id}/snap", { params: { path: { id: take.id }, query: { moved: movedTo, fixed, period, to: snap } } }),
      );
      next = moved(id, to.frame);
    }
    await keepFitted(id === "start" ? "move the loop's start" : "move the loop's end", next);
  };
  /** One thing of the loop, on every chosen take that has one. */
  const keepOnAll = (label: string, of: Partial<TakeLoop>) => {
    const looped = takes.filter((t) => t.treatment?.loop);
    void change(
      view.id,
      looped.length > 1 ? `${label} on ${looped.length} takes` : label,
      looped.map((t) => ({ take: t.id, fact: "loop" as const, value: { ...t.treatment!.loop!, ...of } })),
    ).catch(sayError);
  };
  /** The best of the wished length for every chosen take, looked for by a job and kept as one change. */
  const seek = async (evened: boolean) => {
    const where = from.text ? ` from ${from.text} on` : "";
    const which = `${evened ? "evened loops" : "loops"} ${LENGTHS.find((l) => l.value === length)?.name}`;
    const label = `${which}${where} on ${takes.length} ${takes.length === 1 ? "take" : "takes"}`;
    answer(
      await api.POST("/api/instruments/{id}/loops", {
        params: { path: { id: view.id } },
        body: { takes: takes.map((t) => t.id), evened, label, lengths: wanted },
      }),
    );
  };
  const single = async () =>
    answer(
      await api.POST("/api/instruments/{id}/make", {
        params: { path: { id: view.id } },
        body: { takes: takes.map((t) => t.id), how: { short_loop: { periods: 1 } } },
      }),
    );
  const byHand = take.correction.loop !== undefined;
  const drift = seam.data?.drift_db ?? 0;
  const others = takes.filter((t) => t.id !== take.id);
  const isHeld = (l: Place) => now?.start_frame === l.start_frame && now.end_frame === l.end_frame;
  const fitted = seam.data?.likeness_percent;
  const curve: Curve =
    now?.likeness_percent === undefined || now.likeness_percent === fitted || (now.likeness_percent !== 0 && now.likeness_percent !== 100)
      ? "fitted"
      : now.likeness_percent === 100
        ? "linear"
        : "equal_power";
  const setCurve = (next: Curve) =>
    keepOnAll("change the crossfade's curve", { likeness_percent: next === "linear" ? 100 : next === "equal_power" ? 0 : (fitted ?? 100) });
  const turns = now?.way === "back_and_forth";
  const ofLoop = { unit, byHand, disabled: !now, onAutomatic: () => void keep("loop back to automatic", undefined) };
  const evened = held.cleaning?.evening != null;
  const evenAll = () =>
    void change(
      view.id,
      evened ? "no evening" : "even the loop",
      takes.map((t) => ({ take: t.id, fact: "evening" as const, value: evened ? undefined : { share: 1 } })),
    ).catch(sayError);
  const hear = (key: number, rounds: number, seamOnly = false) =>
    now &&
    void player
      .hear({
        url: `/api/takes/${take.id}/looped?looped=${encodeURIComponent(JSON.stringify(now))}&key=${key}&rounds=${rounds}&seam_only=${seamOnly}`,
        rate: take.rate_hz,
        channels: 2,
      })
      .catch(sayError);
  const all = others.length > 0 ? ` for ${takes.length}` : "";
  return (
    <>
      <BenchHead
        on={on}
        note={
          !now ? (
            <Badge>{take.missing.includes("loop") ? "nothing worth looping" : "no loop"}</Badge>
          ) : turns ? null : seam.data?.audible_db != null && seam.data.audible_db > CHECK_DB ? (
            <Badge>the seam stands out by {signedDb(seam.data.audible_db)}</Badge>
          ) : take.missing.includes("loop_length") ? (
            <Badge>under a second: a pad stands still in it</Badge>
          ) : drift > 1 ? (
            <Badge>level drifts {drift.toFixed(1)} dB across the loop</Badge>
          ) : null
        }
      />
      <div className="card relative h-[calc(164px+var(--spare)/2)] shrink-0 overflow-hidden">
        <Waveform
          take={drawable}
          heard={[held.start_frame, held.end_frame]}
          tinted={now && { start: now.start_frame, end: now.end_frame, crossfade: now.crossfade_frames }}
          marks={now ? ENDS.map(({ id, frame, side }) => ({ id, label: id, frame: now[frame], side })) : []}
          onDrag={(id, frame) => {
            const next = moved(id, frame);
            setMoving(next);
            player.drag(take.id, id === "start" ? "loop_start" : "loop_end", frame);
          }}
          onCancel={(id, frame) => {
            setMoving(undefined);
            player.drag(take.id, id === "start" ? "loop_start" : "loop_end", frame);
          }}
          onDrop={(id, frame) => void drop(id, frame).catch(sayError)}
        />
      </div>
      <div className="flex shrink-0 flex-col gap-3 *:h-[208px] xl:h-[calc(208px+var(--spare)/2)] xl:flex-row xl:*:h-auto">
        <div className="card flex min-w-0 shrink-0 flex-col overflow-hidden xl:flex-1">
          <div className="px-3 pt-2">
            <b className="font-semibold">Seam</b>{" "}
            <span className="text-ink3">{turns ? "it turns in place: nothing is joined" : "as it will sound: end, then start"}</span>
          </div>
          <div className="relative min-h-0 flex-1">
            {now && !turns && seam.data && <Seam sides={seam.data} />}
            {!now && (
              <p className="px-3 pt-2 text-ink3">There is no loop. Take one of the places beside, or look for one of another length.</p>
            )}
          </div>
          <p className="num px-3 pb-1.5 text-[11.5px] text-ink3" data-part="seam-level" hidden={!now} title={STANDS_OUT}>
            {seam.data?.audible_db != null && `stands out ${signedDb(seam.data.audible_db)}`}
            {seam.data?.audible_lowest_db != null && ` · at ${keyName(edge.lowest)} ${signedDb(seam.data.audible_lowest_db)}`}
            {seam.data?.audible_highest_db != null && ` · at ${keyName(edge.highest)} ${signedDb(seam.data.audible_highest_db)}`}
            {seam.data?.audible_db != null && " · "}seam {db(seam.data?.seam_db, 0)} · alike {fitted ?? "–"} % · drift {drift.toFixed(1)} dB
          </p>
        </div>
        <div className="card flex min-w-0 shrink-0 flex-col overflow-hidden xl:flex-1">
          <div className="flex items-center justify-between gap-2 px-3 pt-1.5">
            <b className="font-semibold whitespace-nowrap">Places to loop</b>
            <div className="w-[76px]">
              <Written
                quiet
                label="Searched from"
                title={SEARCHED}
                className="num !mt-0 text-[12px]"
                placeholder="from 0 %"
                value={from.text}
                onKeep={keepFrom}
              />
            </div>
            <div className="w-36">
              <Choice quiet label="Loops of which length" value={length} onChange={setLength} options={LENGTHS} />
            </div>
          </div>
          <div className="min-h-0 flex-1 overflow-auto">
            <table className="num mt-1 w-full text-[12px]">
              <thead className="text-left text-ink3">
                <tr className="whitespace-nowrap">
                  {TOLD.map(({ name, hint }) => (
                    <th key={name} className="pl-2 font-normal last:pr-2" title={hint}>
                      {name}
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {places?.map((l) => (
                  <tr
                    key={`${l.start_frame}-${l.end_frame}`}
                    className={`cursor-pointer border-t border-line2 ${isHeld(l) ? "bg-act-soft" : "hover:bg-sheet"}`}
                    onClick={() => void keep("take another loop", { ...now, ...plainLoop(l) })}
                  >
                    {TOLD.map(({ name, of }, n) => (
                      <td key={name} className="py-0.5 pl-2">
                        {n === 0 ? <button className="min-h-6 min-w-6">{of(l, take.rate_hz)}</button> : of(l, take.rate_hz)}
                      </td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
            {places?.length === 0 && <p className="p-3 text-ink3">Nothing here is worth looping as it is. Evened it may be.</p>}
          </div>
          <div className="flex flex-wrap items-center gap-x-2 gap-y-1 border-t border-line2 px-3 py-1.5">
            <button className="button !py-0.5" onClick={() => void seek(false).catch(sayError)}>
              Use the best{all}
            </button>
            <button
              className="button !py-0.5"
              title="For what dies away or changes its colour: both are held over the loop, and the best place is looked for in what is then heard"
              disabled={!take.facts?.pitch}
              onClick={() => void seek(true).catch(sayError)}
            >
              Even and loop{all}
            </button>
            <button
              className="button !py-0.5"
              title="Makes new takes, resampled a little so that one period is whole frames"
              disabled={!take.facts?.pitch}
              onClick={() => void single().catch(sayError)}
            >
              Single cycle{all}
            </button>
          </div>
        </div>
      </div>
      <div className="card flex flex-wrap items-end gap-x-3 gap-y-2 p-3">
        {ENDS.map(({ id, name, frame, drag }) => (
          <Field
            key={id}
            label={`Loop ${id}`}
            width="104px"
            value={now?.[frame]}
            {...ofLoop}
            onLive={(v) => player.drag(take.id, drag, v)}
            onSet={(v) => void keepFitted(name, moved(id, Math.round(v))).catch(sayError)}
          />
        ))}
        <div className="w-32">
          <Choice<Snap> label="A dragged end" value={snap} onChange={setSnap} options={SNAPS} />
        </div>
        <Field
          label="Crossfade"
          width="80px"
          value={turns ? 0 : now?.crossfade_frames}
          {...ofLoop}
          disabled={!now || turns}
          onLive={(v) => player.drag(take.id, "loop_crossfade", v)}
          onSet={(v) => keepOnAll("change the crossfade", { crossfade_frames: Math.max(0, Math.round(v)) })}
        />
        <div className="w-36">
          <Choice<Curve>
            label="Its curve"
            value={curve}
            onChange={setCurve}
            options={[{ value: "fitted", name: `by likeness, ${fitted ?? "–"} %` }, ...CURVES]}
          />
        </div>
        <div className="w-36">
          <Choice
            label="Way"
            value={now?.way ?? "forward"}
            onChange={(way) => keepOnAll("change the loop's way", { way })}
            options={WAYS}
          />
        </div>
        <div className="w-40">
          <Choice
            label="It runs"
            value={turns ? "through_release" : (now?.runs ?? "through_release")}
            onChange={(runs) => keepOnAll("change when the loop is left", { runs })}
            options={RUNS}
          />
        </div>
        <button
          role="switch"
          aria-checked={evened}
          className={`button ${evened ? "on" : ""}`}
          disabled={!now}
          title="Level and slow change of colour are held over the loop, so that it does not pump"
          onClick={evenAll}
        >
          Even the loop{all}
        </button>
        <div className="grow" />
        <UseOnMore on={on} part="loop" can={byHand} />
        {byHand && (
          <button className="button" onClick={() => void keep("loop back to automatic", undefined, takes)}>
            Automatic{all}
          </button>
        )}
        <button
          className="button"
          disabled={!now}
          onClick={() => void keep(takes.length > 1 ? `no loop on ${takes.length} takes` : "no loop", null, takes)}
        >
          No loop{all}
        </button>
      </div>
      <div className="card flex flex-wrap items-center gap-2 p-3" role="group" aria-label="Listen">
        <HearButton keyNumber={take.cell.key} velocity={velocityOf(on)} name="Hear it held" />
        <button className="button" disabled={!now} onClick={() => hear(take.cell.key, 1, true)}>
          The seam alone
        </button>
        <button className="button" disabled={!now} onClick={() => hear(take.cell.key, 10)}>
          Ten times round
        </button>
        {EDGES.map(
          ({ which, rounds, title }) =>
            regions.length > 0 && (
              <button key={which} className="button" disabled={!now} title={title} onClick={() => hear(edge[which], rounds)}>
                At {keyName(edge[which])}, the {which}
              </button>
            ),
        )}
        <button className="button" aria-label="Stop listening" onClick={() => void player.hear(undefined)}>
          ■
        </button>
      </div>
    </>
  );
}

function plainLoop({ start_frame, end_frame, crossfade_frames, likeness_percent }: Schemas["LoopCandidate"]): TakeLoop {
  return { start_frame, end_frame, crossfade_frames, likeness_percent };
}
