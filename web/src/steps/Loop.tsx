// Where each take is looped, and what its seam is worth.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type TakeLoop, type TakeView } from "../api/client";
import { change } from "../state/edits";
import { standsOut } from "../model/cells";
import { takeId } from "../model/regions";
import { db, signedDb } from "../model/units";
import { Badge, BenchHead, type OnBench } from "../parts/Bench";
import type { Plot } from "../parts/Board";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { UseOnMore } from "../parts/UseOnMore";
import { useDrawableTake, Waveform } from "../parts/Waveform";
import { keyName } from "../model/keys";
import { player } from "../sound/player";
import { useTimeUnit } from "../state/settings";
import { sayError, useView } from "../state/view";
import { LoopListen } from "./LoopListen";
import { LoopPlaces, type LoopPlace, STANDS_OUT } from "./LoopPlaces";
import { Seam } from "./Seam";

/** A seam that stands out by more than this is to be checked, by more than that it is wrong. */
const CHECK_DB = 0.05;
const WRONG_DB = 3;
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

type Snap = "free" | "zero" | "likeness";
type Curve = "fitted" | "linear" | "equal_power";

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

export function LoopBench({ on }: { on: OnBench }) {
  const { take, takes, view } = on;
  const [moving, setMoving] = useState<TakeLoop | undefined>();
  const [snap, setSnap] = useState<Snap>("free");
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
  if (!held) return <p className="text-ink3">This take is being measured.</p>;
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
  const byHand = take.correction.loop !== undefined;
  const drift = seam.data?.drift_db ?? 0;
  const others = takes.filter((t) => t.id !== take.id);
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
        <LoopPlaces on={on} now={now} onTake={(l) => void keep("take another loop", { ...now, ...plainLoop(l) })} />
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
      <LoopListen on={on} now={now} edge={regions.length > 0 ? edge : undefined} />
    </>
  );
}

function plainLoop({ start_frame, end_frame, crossfade_frames, likeness_percent }: LoopPlace): TakeLoop {
  return { start_frame, end_frame, crossfade_frames, likeness_percent };
}
