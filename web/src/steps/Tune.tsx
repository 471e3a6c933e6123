// How each take is tuned, against its plan and its neighbours.
import { useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useState } from "react";
import { answer, api, type Fact, type TakeView } from "../api/client";
import { change } from "../state/edits";
import { centsFromPlan, passOf } from "../model/cells";
import { hzOfKey, keyName } from "../model/keys";
import { cents, decibels, key } from "../model/units";
import { Badge, BenchHead, type OnBench, velocityOf } from "../parts/Bench";
import type { Plot } from "../parts/Board";
import { Canvas, MONO, type Surface } from "../parts/canvas";
import { type Place, useDrag } from "../parts/drag";
import { Field } from "../parts/Field";
import { UseOnMore } from "../parts/UseOnMore";
import { player } from "../sound/player";
import { sayError, useView } from "../state/view";
import { Spectrograms } from "./Spectrograms";
import { HearButton } from "./Trim";
import { TuningOfAll } from "./TuningOfAll";

/** What is further from its key than this is to be checked; another note is wrong. */
const CHECK_CENTS = 15;
/** By more than this a take that begins otherwise than it goes on is told. */
const HELD_CENTS = 5;

/** How far what is heard in its loop lies above what the whole of it is heard as, in cents. */
function heldOff(take: TakeView): number {
  const { treatment, facts } = take;
  const now = facts?.loops.find((one) => one.start_frame === treatment?.loop?.start_frame && one.end_frame === treatment.loop.end_frame);
  return now?.held_cents ?? 0;
}
/** So many partials are marked, the strongest. */
const PARTIALS = 14;

export const tunePlot: Plot = {
  title: "cents",
  low: -50,
  high: 50,
  line: 0,
  value: centsFromPlan,
  show: (value) => `${value >= 0 ? "+" : "−"}${Math.abs(value).toFixed(1)} ct`,
  expected: (take) => take.curve_cents ?? undefined,
  verdict: (value, expected) => (Math.abs(value) > 60 ? 2 : Math.abs(value - (expected ?? 0)) > CHECK_CENTS ? 1 : 0),
  missing: { what: "pitch", says: "no pitch heard" },
  bothWays: true,
};

export function TuneBench({ on }: { on: OnBench }) {
  const { take, takes, view } = on;
  const [reference, setReference] = useState(false);
  const [level, setLevel] = useState(-20);
  const [below, setBelow] = useState<"spectrum" | "spectrogram">("spectrum");
  const [stretch, setStretch] = useState<[number, number] | undefined>();
  const { pick, setPick } = useView();
  useEffect(() => () => setPick(undefined), [take.id, setPick]);
  const held = take.treatment;
  // The map plays the take at its cell's key: the tone beside it is that key's, and the beating stops when root and cents are right.
  const wanted = hzOfKey(take.cell.key);
  useEffect(() => {
    if (reference) void player.reference(wanted, level);
    return () => void (reference && player.reference(undefined));
  }, [reference, wanted, level]);
  const pitch = useQuery({
    queryKey: ["pitch", take.id, held?.start_frame, held?.end_frame],
    enabled: held !== undefined && held !== null,
    staleTime: Infinity,
    queryFn: async () =>
      answer(
        await api.GET("/api/takes/{id}/pitch", {
          params: { path: { id: take.id }, query: { first: held!.start_frame, end: held!.end_frame } },
        }),
      ),
  });
  const data = pitch.data;
  const root = held ? hzOfKey(held.root_key + held.recording_cents / 100) : 440;
  const counted: [number, number] | undefined =
    stretch ?? (take.correction.pitch_stretch as [number, number] | null | undefined) ?? undefined;
  const [countedFrom, countedTo] = counted ?? [];
  const drawCurve = useCallback(
    ({ ctx, width, height, colours }: Surface) => {
      ctx.fillStyle = colours.raised;
      ctx.fillRect(0, 0, width, height);
      const y = (c: number) => height / 2 - (c / 30) * (height / 2 - 14);
      ctx.font = MONO;
      ctx.textBaseline = "middle";
      for (const c of [-20, 0, 20]) {
        ctx.fillStyle = c === 0 ? colours.line : colours.line2;
        ctx.fillRect(0, y(c), width, 1);
        ctx.fillStyle = colours.ink3;
        ctx.fillText(`${c > 0 ? "+" : ""}${c} ct`.replace("-", "−"), 4, y(c) - 7);
      }
      if (!data || data.hz.length === 0) return;
      const x = placeOf(data.frames, width);
      // The stretch that counts, between two lines that are dragged.
      const [one, two] = [x(countedFrom ?? data.frames[0]!), x(countedTo ?? data.frames.at(-1)!)];
      ctx.fillStyle = colours.actSoft;
      ctx.globalAlpha = countedFrom !== undefined ? 0.9 : 0.35;
      ctx.fillRect(one, 0, two - one, height);
      ctx.globalAlpha = 1;
      ctx.fillStyle = colours.act;
      for (const at of [one, two]) ctx.fillRect(at - 0.75, 0, 1.5, height);
      ctx.beginPath();
      data.hz.forEach((hz, n) => ctx.lineTo(x(data.frames[n]!), Math.min(height - 4, Math.max(4, y(1200 * Math.log2(hz / root))))));
      ctx.strokeStyle = colours.act;
      ctx.lineWidth = 1.6;
      ctx.stroke();
    },
    [data, root, countedFrom, countedTo],
  );
  const drawSpectrum = useCallback(
    ({ ctx, width, height, colours }: Surface) => {
      ctx.fillStyle = colours.raised;
      ctx.fillRect(0, 0, width, height);
      const low = 20;
      const nyquist = take.rate_hz / 2;
      const x = (hz: number) => (Math.log(hz / low) / Math.log(nyquist / low)) * width;
      const y = (level: number) => 10 + (-level / 120) * (height - 30);
      ctx.font = MONO;
      ctx.textBaseline = "middle";
      // Whole multiples, faint: where partials would lie in a string or a pipe.
      if (take.facts?.pitch?.hz) {
        ctx.fillStyle = colours.line2;
        for (let n = 2; n <= 12 && x(root * n) < width; n++) ctx.fillRect(x(root * n), 0, 1, height - 18);
      }
      ctx.fillStyle = colours.ink3;
      for (const hz of [50, 100, 500, 1000, 5000, 10000]) ctx.fillText(hz >= 1000 ? `${hz / 1000} kHz` : `${hz} Hz`, x(hz), height - 9);
      if (!data) return;
      ctx.beginPath();
      data.spectrum_db.forEach((level, n) => ctx.lineTo((n / data.spectrum_db.length) * width, y(Math.max(-120, level))));
      ctx.strokeStyle = colours.wave;
      ctx.lineWidth = 1;
      ctx.stroke();
      if (!take.facts?.pitch?.hz) return;
      ctx.fillStyle = colours.act;
      ctx.fillRect(x(root), 0, 1.5, height - 18);
      ctx.fillText(`${root.toFixed(1)} Hz`, x(root) + 4, 10);
      // The strongest first, so that they have their words where there is no room for all.
      const strongest = [...data.partials].sort((a, b) => b.db - a.db).slice(0, PARTIALS);
      const taken: number[] = [x(root) + 30];
      for (const { hz, db } of strongest) {
        const [at, top] = [x(hz), y(db)];
        ctx.beginPath();
        ctx.arc(at, top, 2.5, 0, 7);
        ctx.fill();
        if (hz < root * 1.05 || taken.some((other) => Math.abs(other - at) < 40)) continue;
        taken.push(at);
        ctx.fillText(`×${(hz / root).toFixed(2)}`, at - 14, Math.max(8, top - 10));
      }
    },
    [data, root, take.rate_hz, take.facts?.pitch?.hz],
  );
  const { handlers: stretching } = useDrag<{ end: 0 | 1; from: [number, number] }>({
    take: ({ x: at, width }) => {
      if (!data || data.frames.length < 2) return undefined;
      const x = placeOf(data.frames, width);
      const from: [number, number] = counted ?? [data.frames[0]!, data.frames.at(-1)!];
      return { end: Math.abs(x(from[0]) - at) <= Math.abs(x(from[1]) - at) ? 0 : 1, from };
    },
    move: ({ end, from }, _, at) => setStretch(stretched(end, from, at)),
    drop: ({ end, from }, _, at) =>
      void takeStretch(stretched(end, from, at))
        .catch(sayError)
        .finally(() => setStretch(undefined)),
    cancel: () => setStretch(undefined),
  });
  /** The stretch with one end under the pointer. */
  const stretched = (end: 0 | 1, from: [number, number], { x, width }: Place): [number, number] => {
    const frame = frameAt(data!.frames, width, x);
    const least = Math.round(take.rate_hz * 0.05);
    return end === 0 ? [Math.min(frame, from[1] - least), from[1]] : [from[0], Math.max(frame, from[0] + least)];
  };
  if (!held) return <p className="text-ink3">This take is being measured.</p>;
  const set = (label: string, fact: Fact, value: unknown, all = takes) =>
    void change(
      view.id,
      all.length > 1 ? `${label} of ${all.length} takes` : label,
      all.map((t) => ({ take: t.id, fact, value })),
    ).catch(sayError);
  const off = centsFromPlan(take);
  const facts = take.facts;
  // As the map plays it at its cell's key.
  const sounds =
    facts?.pitch && !take.correction.no_pitch
      ? facts.pitch.hz * 2 ** ((take.cell.key - held.root_key) / 12 + ((held.tune_cents ?? 0) - held.recording_cents) / 1200)
      : undefined;
  const beats = sounds === undefined ? undefined : Math.abs(sounds - wanted);
  const automatic = () =>
    void change(
      view.id,
      takes.length > 1 ? `root and cents of ${takes.length} takes back to automatic` : "root and cents back to automatic",
      takes.flatMap((t) =>
        (["root_key", "recording_cents", "pitch_stretch"] as const).map((fact) => ({ take: t.id, fact, value: undefined })),
      ),
    ).catch(sayError);
  /** The pitch of one stretch counts, not that of the whole take. */
  const takeStretch = async ([first, end]: [number, number]) => {
    const heard = answer(await api.GET("/api/takes/{id}/pitch", { params: { path: { id: take.id }, query: { first, end } } })).pitch;
    if (!heard) throw new Error("No pitch is heard in this stretch: what counted before still does.");
    // Cents from the root as it stands, where the note is the same.
    const over = (heard.key - held.root_key) * 100 + heard.cents;
    const [rootKey, sharp] = Math.abs(over) <= 60 ? [held.root_key, over] : [heard.key, heard.cents];
    await change(view.id, "choose the stretch that counts", [
      { take: take.id, fact: "pitch_stretch", value: [first, end] },
      { take: take.id, fact: "root_key", value: rootKey },
      { take: take.id, fact: "recording_cents", value: Math.round(sharp * 100) / 100 },
    ]);
  };
  const isChord = (passOf(view.plan, take.cell)?.chord ?? []).length > 0;
  return (
    <>
      <BenchHead
        on={on}
        wave={false}
        note={
          off === undefined ? (
            <Badge>no pitch of its own</Badge>
          ) : Math.abs(off) > 60 ? (
            <Badge wrong>
              this is {keyName(facts!.pitch!.key)}, the cell is {keyName(take.cell.key)}
            </Badge>
          ) : Math.abs(off - (take.curve_cents ?? 0)) > CHECK_CENTS ? (
            <Badge>
              {tunePlot.show(off)}
              {Math.abs(take.curve_cents ?? 0) >= 1 ? `, its neighbours ${tunePlot.show(take.curve_cents!)}` : ""}
            </Badge>
          ) : Math.abs(take.curve_cents ?? 0) > CHECK_CENTS ? (
            <Badge>{tunePlot.show(off)}, as the whole instrument</Badge>
          ) : Math.abs(heldOff(take)) > HELD_CENTS ? (
            <Badge>while it is held {tunePlot.show(heldOff(take))} from how it begins: the loop counts</Badge>
          ) : null
        }
      />
      <div className="card shrink-0 p-0">
        <div className="flex items-baseline justify-between px-3 pt-2">
          <b className="font-semibold">Pitch over time</b>
          <span className="num text-ink3">
            {facts?.pitch ? `${facts.pitch.hz.toFixed(2)} Hz · sure ${(100 * facts.pitch.confidence).toFixed(0)} %` : "no pitch heard"}
          </span>
        </div>
        <div className="relative h-[calc(140px+var(--spare)/2)]">
          <Canvas
            draw={drawCurve}
            role="img"
            data-part="pitch"
            aria-label="Pitch over time, in cents from the root; the two lines bound the stretch that counts, and are dragged"
            className="touch-none cursor-ew-resize"
            {...stretching}
          />
        </div>
      </div>
      <div className="card shrink-0 overflow-hidden">
        <div className="flex items-center gap-2 px-3 pt-2" role="tablist" aria-label="Spectrum or spectrogram">
          {(
            [
              ["spectrum", "Spectrum"],
              ["spectrogram", "Spectrogram"],
            ] as const
          ).map(([id, name]) => (
            <button
              key={id}
              role="tab"
              aria-selected={below === id}
              className={below === id ? "font-semibold" : "text-ink3 hover:text-ink"}
              onClick={() => setBelow(id)}
            >
              {name}
            </button>
          ))}
          {below === "spectrum" && <span className="text-ink3">fundamental and partials marked</span>}
        </div>
        {below === "spectrum" ? (
          <div className="relative h-[calc(170px+var(--spare)/2)]">
            <Canvas draw={drawSpectrum} role="img" aria-label="Spectrum with the fundamental and its partials marked" />
          </div>
        ) : (
          <Spectrograms on={on} />
        )}
      </div>
      <div className="card flex flex-wrap items-end gap-3 p-3">
        <Field
          label="Root key"
          width="70px"
          value={held.root_key}
          unit={key}
          byHand={take.correction.root_key != null}
          onSet={(v) => set("set the root", "root_key", Math.round(v))}
          onAutomatic={automatic}
        />
        <div className="flex gap-1" role="group" aria-label="Octave">
          {(
            [
              ["Octave ↓", -12, "octave down"],
              ["Octave ↑", 12, "octave up"],
            ] as const
          ).map(([name, by, label]) => (
            <button
              key={name}
              className="button !px-2"
              onClick={() =>
                void change(
                  view.id,
                  takes.length > 1 ? `${label} on ${takes.length} takes` : label,
                  takes
                    .filter((t) => t.treatment)
                    .map((t) => ({ take: t.id, fact: "root_key" as const, value: Math.min(127, Math.max(0, t.treatment!.root_key + by)) })),
                ).catch(sayError)
              }
            >
              {name}
            </button>
          ))}
        </div>
        <Field
          label="Recording is sharp by"
          width="132px"
          value={held.recording_cents}
          unit={cents}
          byHand={take.correction.recording_cents != null}
          onLive={(v) => player.drag(take.id, "recording_cents", v)}
          onSet={(v) => set("set the cents", "recording_cents", v)}
          onAutomatic={automatic}
        />
        <Field
          label="Added on playing"
          width="104px"
          value={held.tune_cents}
          unit={cents}
          byHand={take.correction.tune_cents != null}
          onLive={(v) => player.drag(take.id, "tune_cents", v)}
          onSet={(v) => set("change the tuning", "tune_cents", v)}
          onAutomatic={() => set("tuning back to equal temperament", "tune_cents", undefined)}
        />
        <button
          role="switch"
          aria-checked={take.correction.no_pitch ?? false}
          className={`button ${take.correction.no_pitch ? "on" : ""}`}
          disabled={isChord}
          title={isChord ? "It was struck as a chord: its root is its rung" : "A chord, a noise: its root is what its maker says"}
          onClick={() =>
            set(
              take.correction.no_pitch ? "take the pitch heard" : "say that there is no pitch",
              "no_pitch",
              take.correction.no_pitch ? undefined : true,
            )
          }
        >
          No pitch of its own
        </button>
        <div className="grow" />
        <UseOnMore
          on={on}
          part="tune"
          can={(["root_key", "recording_cents", "tune_cents"] as const).some((fact) => take.correction[fact] != null)}
        />
      </div>
      <div className="card flex flex-wrap items-end gap-3 p-3">
        <button className={`button ${reference ? "on" : ""}`} aria-pressed={reference} onClick={() => setReference(!reference)}>
          Reference tone
        </button>
        <Field label="Its level" width="90px" value={level} unit={decibels} onSet={(v) => setLevel(Math.min(0, Math.max(-60, v)))} />
        <button
          className={`button ${pick ? "on" : ""}`}
          aria-pressed={pick !== undefined}
          title="A click on a key of the ladder sounds it as a plain tone, and makes it the root"
          onClick={() =>
            setPick(
              pick
                ? undefined
                : (k) => {
                    void player.plainTone(hzOfKey(k), level).catch(sayError);
                    set("set the root by ear", "root_key", k);
                  },
            )
          }
        >
          Root by the ladder
        </button>
        <p className="num flex-1 pb-1.5 text-[12px] text-ink3" data-part="beating">
          {beats === undefined
            ? ""
            : beats < 0.05
              ? "no beating beside the tone"
              : `beats ${beats.toFixed(beats < 10 ? 2 : 0)} times a second beside the tone`}
        </p>
        <HearButton keyNumber={take.cell.key} velocity={velocityOf(on)} />
      </div>
      <TuningOfAll on={on} />
    </>
  );
}

/** Room for the scale at the left of the pitch curve. */
const SCALE = 46;

function placeOf(frames: number[], width: number): (frame: number) => number {
  const from = frames[0]!;
  const span = Math.max(1, frames.at(-1)! - from);
  return (frame) => SCALE + ((frame - from) / span) * (width - SCALE - 8);
}

function frameAt(frames: number[], width: number, x: number): number {
  const from = frames[0]!;
  const span = Math.max(1, frames.at(-1)! - from);
  return Math.round(from + Math.min(1, Math.max(0, (x - SCALE) / (width - SCALE - 8))) * span);
}
