// Where each take starts and ends, and how loud it is.
import { useState } from "react";
import { answer, api, type Fact, type Schemas } from "../api/client";
import { change } from "../state/edits";
import { player } from "../sound/player";
import { db, decibels, lufs, percent } from "../model/units";
import { Badge, BenchHead, type OnBench, velocityOf } from "../parts/Bench";
import type { Plot } from "../parts/Board";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { UseOnMore } from "../parts/UseOnMore";
import { useDrawableTake, Waveform } from "../parts/Waveform";
import { useTimeUnit } from "../state/settings";
import { sayError, useView } from "../state/view";
import { Clean } from "./Clean";
import { Make } from "./Make";

/** A take that lies so far from its layer's own curve is to be checked, or wrong. */
const CHECK_LU = 3;
const WRONG_LU = 6;
/** A start or end that is less sure than this is to be checked. */
const SURE = 0.5;

export const trimPlot: Plot = {
  title: "loudness",
  low: -50,
  high: -5,
  value: (take) => (take.levels?.loudness_lufs == null ? undefined : take.levels.loudness_lufs + (take.treatment?.gain_db ?? 0)),
  before: (take) => (take.treatment?.gain_db || take.cleaned ? (take.facts?.loudness_lufs ?? undefined) : undefined),
  show: (value) => `${value.toFixed(1).replace("-", "−")} LUFS`,
  expected: (take) => take.curve_lufs ?? undefined,
  byLayer: true,
  verdict: (value, expected, take) => {
    const off = Math.abs(value - (expected ?? value));
    if (off > WRONG_LU || (take?.facts?.clipped_frames ?? 0) > 0) return 2;
    return off > CHECK_LU ||
      unsure(take?.facts?.start_sure) ||
      unsure(take?.facts?.end_sure) ||
      take?.missing.includes("end") ||
      take?.facts?.sound_before
      ? 1
      : 0;
  },
  bothWays: true,
};

function unsure(value: number | null | undefined): boolean {
  return value != null && value < SURE;
}

/** How far left and right lie apart: a take that leans to one side stands out. */
export const sidesPlot: Plot = {
  title: "left, right",
  low: -12,
  high: 12,
  line: 0,
  value: (take) => (take.levels?.balance_db == null ? undefined : -take.levels.balance_db),
  show: (value) => `${Math.abs(value).toFixed(1)} dB to the ${value >= 0 ? "right" : "left"}`,
  verdict: (value) => (Math.abs(value) > 6 ? 2 : Math.abs(value) > 3 ? 1 : 0),
  bothWays: true,
};

/** How alike left and right are: what works against itself in mono stands out. */
export const likenessPlot: Plot = {
  title: "likeness of sides",
  low: -1,
  high: 1,
  line: 0,
  value: (take) => take.levels?.correlation ?? undefined,
  show: (value) => value.toFixed(2).replace("-", "−"),
  verdict: (value) => (value < -0.3 ? 2 : value < 0 ? 1 : 0),
};

export function TrimBench({ on }: { on: OnBench }) {
  const { take, takes, view } = on;
  const [moving, setMoving] = useState<{ id: string; frame: number } | undefined>();
  const held = take.treatment;
  const raw = useView((state) => state.raw);
  const { panel, setPanel } = useView();
  const drawable = useDrawableTake(take, raw);
  const unit = useTimeUnit(take.rate_hz);
  if (!held) return <p className="text-ink3">This take is being measured.</p>;
  const set = (label: string, fact: Fact, value: unknown) =>
    change(view.id, label, [{ take: take.id, fact, value }])
      .catch(sayError)
      .finally(() => setMoving(undefined));
  const start = moving?.id === "start" ? moving.frame : held.start_frame;
  const end = moving?.id === "end" ? moving.frame : held.end_frame;
  const facts = take.facts;
  const said = take.correction;
  const loud = take.levels?.loudness_lufs;
  const off = loud == null || take.curve_lufs == null ? 0 : loud + (held.gain_db ?? 0) - take.curve_lufs;
  return (
    <>
      <BenchHead
        on={on}
        note={
          !facts ? null : facts.clipped_frames > 0 ? (
            <Badge wrong>{facts.clipped_frames} frames clipped</Badge>
          ) : Math.abs(off) > CHECK_LU ? (
            <Badge wrong={Math.abs(off) > WRONG_LU}>
              {Math.abs(off).toFixed(1)} LU {off > 0 ? "louder" : "quieter"} than its neighbours
            </Badge>
          ) : facts.sound_before ? (
            <Badge>another sound stands before its start, and is left out</Badge>
          ) : unsure(facts.start_sure) ? (
            <Badge>its start is not sure</Badge>
          ) : take.missing.includes("end") ? (
            <Badge>it is cut short: it ends in the midst of its sound</Badge>
          ) : unsure(facts.end_sure) ? (
            <Badge>its end is not sure</Badge>
          ) : null
        }
      />
      <div
        className={`card relative shrink-0 overflow-hidden ${panel === "trim" ? "h-[calc(300px+var(--spare))]" : "h-[calc(150px+var(--spare)/2)]"}`}
      >
        <Waveform
          take={drawable}
          heard={[start, end]}
          marks={[
            { id: "start", label: "start", frame: start, side: "right" },
            { id: "end", label: "end", frame: end, side: "left" },
          ]}
          onDrag={(id, frame) => {
            setMoving({ id, frame });
            player.drag(take.id, id === "start" ? "start" : "end", frame);
          }}
          onCancel={(id, frame) => {
            setMoving(undefined);
            player.drag(take.id, id === "start" ? "start" : "end", frame);
          }}
          onDrop={(id, frame) =>
            void set(id === "start" ? "move the start" : "move the end", id === "start" ? "start_frame" : "end_frame", frame)
          }
        />
      </div>
      <div className="flex items-center justify-between">
        <div role="tablist" aria-label="What is done" className="flex gap-1">
          {(
            [
              ["trim", "Trim and level"],
              ["clean", "Clean"],
              ["make", "New takes"],
            ] as const
          ).map(([id, name]) => (
            <button
              key={id}
              role="tab"
              aria-selected={panel === id}
              className={`button ${panel === id ? "on" : ""}`}
              onClick={() => setPanel(id)}
            >
              {name}
              {id === "clean" && take.cleaned ? " ·" : ""}
            </button>
          ))}
        </div>
        <HearButton keyNumber={take.cell.key} velocity={velocityOf(on)} />
      </div>
      {panel === "clean" && <Clean on={on} />}
      {panel === "make" && <Make on={on} />}
      {panel === "trim" && (
        <>
          <div className="card flex flex-wrap items-end gap-3 p-3">
            <Field
              label="Start"
              width="98px"
              value={start}
              unit={unit}
              byHand={said.start_frame != null}
              onSet={(v) => void set("move the start", "start_frame", Math.max(0, Math.round(v)))}
              onAutomatic={() => void set("start back to automatic", "start_frame", undefined)}
            />
            <Field
              label="End"
              width="98px"
              value={end}
              unit={unit}
              byHand={said.end_frame != null}
              onSet={(v) => void set("move the end", "end_frame", Math.max(1, Math.round(v)))}
              onAutomatic={() => void set("end back to automatic", "end_frame", undefined)}
            />
            <Field
              label="Room before"
              width="84px"
              value={facts ? facts.start_frame - start : undefined}
              unit={unit}
              byHand={said.start_frame != null}
              onSet={(v) =>
                void change(
                  view.id,
                  takes.length > 1 ? `room before ${takes.length} sounds` : "room before the sound",
                  takes
                    .filter((t) => t.facts)
                    .map((t) => ({
                      take: t.id,
                      fact: "start_frame" as const,
                      value: Math.max(0, t.facts!.start_frame - Math.round((v * t.rate_hz) / take.rate_hz)),
                    })),
                ).catch(sayError)
              }
              onAutomatic={() =>
                void change(
                  view.id,
                  "room before back to automatic",
                  takes.map((t) => ({ take: t.id, fact: "start_frame" as const, value: undefined })),
                ).catch(sayError)
              }
            />
            <Field
              label="Fade in"
              width="66px"
              value={held.fade_in_frames}
              unit={unit}
              byHand={said.fade_in_frames != null}
              onSet={(v) => void set("change the fade-in", "fade_in_frames", Math.max(0, Math.round(v)))}
              onAutomatic={() => void set("fade-in back to automatic", "fade_in_frames", undefined)}
            />
            <Field
              label="Fade out"
              width="66px"
              value={held.fade_out_frames}
              unit={unit}
              byHand={said.fade_out_frames != null}
              onSet={(v) => void set("change the fade-out", "fade_out_frames", Math.max(0, Math.round(v)))}
              onAutomatic={() => void set("fade-out back to automatic", "fade_out_frames", undefined)}
            />
            <div className="w-28">
              <Choice<Curve>
                label="Fades"
                value={held.fade_curve ?? "straight"}
                onChange={(curve) =>
                  void change(
                    view.id,
                    "change the course of the fades",
                    takes.map((t) => ({ take: t.id, fact: "fade_curve" as const, value: curve === "straight" ? undefined : curve })),
                  ).catch(sayError)
                }
                options={CURVES}
              />
            </div>
            <Field
              label="Level"
              width="72px"
              value={held.gain_db}
              unit={decibels}
              onLive={(v) => player.drag(take.id, "gain", v)}
              byHand={said.gain_db != null}
              onSet={(v) => void set("change the level", "gain_db", v)}
              onAutomatic={() => void set("level back to automatic", "gain_db", undefined)}
            />
            <div className="grow" />
            <UseOnMore
              on={on}
              part="trim"
              can={(["start_frame", "end_frame", "fade_in_frames", "fade_out_frames", "fade_curve", "gain_db"] as const).some(
                (fact) => said[fact] != null,
              )}
            />
          </div>
          <dl className="card num grid grid-cols-6 gap-x-4 gap-y-2 p-3 text-[12px]">
            {(
              [
                ["peak", db(take.levels?.peak_dbfs)],
                ["loudness", loud == null ? "–" : `${loud.toFixed(1)} LUFS`],
                ["noise floor", db(facts?.noise_floor_dbfs)],
                ["sound", `${((held.end_frame - held.start_frame) / take.rate_hz).toFixed(2)} s`],
                ["start, how sure", sure(facts?.start_sure)],
                ["end, how sure", sure(facts?.end_sure)],
              ] as const
            ).map(([name, value]) => (
              <div key={name}>
                <dt className="font-sans text-ink3">{name}</dt>
                <dd>{value}</dd>
              </div>
            ))}
          </dl>
          <Levels on={on} />
        </>
      )}
    </>
  );
}

function sure(value: number | null | undefined): string {
  return value == null ? "–" : `${Math.round(value * 100)} %`;
}

type Curve = Schemas["FadeCurve"];
const CURVES: { value: Curve; name: string }[] = [
  { value: "straight", name: "straight" },
  { value: "equal_power", name: "equal power" },
  { value: "exponential", name: "exponential" },
];

type Rule = "peak" | "loudness" | "layer_peak" | "smooth";
const RULES: { value: Rule; name: string; target?: number }[] = [
  { value: "smooth", name: "even along the ladder" },
  { value: "loudness", name: "each to a loudness", target: -24 },
  { value: "peak", name: "each to a peak", target: -6 },
  { value: "layer_peak", name: "layer as a whole to a peak", target: -3 },
];

/** One rule for all that are chosen: kept as one change. */
function Levels({ on }: { on: OnBench }) {
  const { takes, view } = on;
  const [rule, setRule] = useState<Rule>("smooth");
  const [target, setTarget] = useState(-24);
  const [kept, setKept] = useState(100);
  const apply = async () => {
    const of = {
      peak: { peak: { dbfs: target } },
      loudness: { loudness: { lufs: target } },
      layer_peak: { layer_peak: { dbfs: target } },
      smooth: "smooth" as const,
    }[rule];
    const proposed = answer(
      await api.POST("/api/instruments/{id}/even", {
        params: { path: { id: view.id } },
        body: { even: { levels: { rule: of, layers_kept: kept / 100 } }, takes: takes.map((t) => t.id) },
      }),
    );
    await change(
      view.id,
      `even the level of ${proposed.length} takes`,
      proposed.map(({ take, value }) => ({ take, fact: "gain_db" as const, value })),
    );
  };
  return (
    <section className="card flex flex-wrap items-end gap-3 p-3" aria-label="Levels of all chosen">
      <div className="w-52">
        <Choice
          label="Level of all chosen"
          value={rule}
          onChange={(next) => {
            setRule(next);
            setTarget(RULES.find((r) => r.value === next)?.target ?? target);
          }}
          options={RULES}
        />
      </div>
      {rule !== "smooth" && (
        <Field
          label={rule === "loudness" ? "Loudness (LUFS)" : "Peak"}
          width="110px"
          value={target}
          unit={rule === "loudness" ? lufs : decibels}
          onSet={(v) => setTarget(Math.min(0, Math.max(-60, v)))}
        />
      )}
      {rule !== "smooth" && (
        <Field label="Layers keep" width="90px" value={kept} unit={percent} onSet={(v) => setKept(Math.min(100, Math.max(0, v)))} />
      )}
      <button className="button" onClick={() => void apply().catch(sayError)}>
        Even {takes.length} {takes.length === 1 ? "take" : "takes"}
      </button>
      <button
        className="button"
        disabled={takes.every((t) => t.correction.gain_db == null)}
        onClick={() =>
          void change(
            view.id,
            `levels of ${takes.length} takes back to automatic`,
            takes.map((t) => ({ take: t.id, fact: "gain_db" as const, value: undefined })),
          ).catch(sayError)
        }
      >
        As recorded
      </button>
    </section>
  );
}

/** Plays the take as the map plays it, while it is held. */
export function HearButton({ keyNumber, velocity, name = "Hear it" }: { keyNumber: number; velocity: number; name?: string }) {
  return (
    <button
      className="button act"
      onPointerDown={() => void player.on(keyNumber, velocity)}
      onPointerUp={() => player.off(keyNumber)}
      onPointerLeave={() => player.off(keyNumber)}
      onKeyDown={(event) => event.key === "Enter" && !event.repeat && void player.on(keyNumber, velocity)}
      onKeyUp={(event) => event.key === "Enter" && player.off(keyNumber)}
    >
      {name}
    </button>
  );
}
