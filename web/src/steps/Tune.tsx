// How each take is tuned, against its plan and its neighbours.
import { useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useState } from "react";
import { answer, api, change, type Fact, type Schemas } from "../api/client";
import { centsFromPlan } from "../model/cells";
import { hzOfKey, keyName } from "../model/keys";
import { cents, key } from "../model/units";
import { Badge, BenchHead, type OnBench } from "../parts/Bench";
import type { Plot } from "../parts/Board";
import { Canvas, MONO, type Surface } from "../parts/canvas";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { player } from "../sound/player";
import { sayError } from "../state/view";
import { HearButton, velocityOf } from "./Trim";

/** What is further from its key than this is to be checked; another note is wrong. */
const CHECK_CENTS = 15;

export const tunePlot: Plot = {
  title: "cents",
  low: -50,
  high: 50,
  line: 0,
  value: centsFromPlan,
  show: (value) => `${value >= 0 ? "+" : "−"}${Math.abs(value).toFixed(1)} ct`,
  verdict: (value) => (Math.abs(value) > 60 ? 2 : Math.abs(value) > CHECK_CENTS ? 1 : 0),
};

export function TuneBench({ on }: { on: OnBench }) {
  const { take, takes, view } = on;
  const [reference, setReference] = useState(false);
  const held = take.treatment;
  const wanted = held ? hzOfKey(held.root_key) : undefined;
  useEffect(() => {
    if (reference) void player.reference(wanted);
    return () => void (reference && player.reference(undefined));
  }, [reference, wanted]);
  const pitch = useQuery({
    queryKey: ["pitch", take.id, held?.start_frame, held?.end_frame],
    enabled: held !== undefined && held !== null,
    staleTime: Infinity,
    queryFn: async () =>
      answer(await api.GET("/api/takes/{id}/pitch", { params: { path: { id: take.id }, query: { first: held!.start_frame, end: held!.end_frame } } })),
  });
  const data = pitch.data;
  const root = held ? hzOfKey(held.root_key + held.recording_cents / 100) : 440;
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
      const from = data.frames[0]!;
      const span = Math.max(1, data.frames.at(-1)! - from);
      ctx.beginPath();
      data.hz.forEach((hz, n) => ctx.lineTo(46 + ((data.frames[n]! - from) / span) * (width - 54), Math.min(height - 4, Math.max(4, y(1200 * Math.log2(hz / root))))));
      ctx.strokeStyle = colours.act;
      ctx.lineWidth = 1.6;
      ctx.stroke();
    },
    [data, root],
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
      if (take.facts?.pitch?.hz) {
        for (let n = 1; n <= 12; n++) {
          const at = x(root * n);
          if (at > width) break;
          ctx.fillStyle = n === 1 ? colours.act : colours.line;
          ctx.fillRect(at, 0, n === 1 ? 1.5 : 1, height - 18);
          if (n === 1) ctx.fillText(`${root.toFixed(1)} Hz`, at + 4, 10);
        }
      }
      ctx.fillStyle = colours.ink3;
      for (const hz of [50, 100, 500, 1000, 5000, 10000]) ctx.fillText(hz >= 1000 ? `${hz / 1000} kHz` : `${hz} Hz`, x(hz), height - 9);
      if (!data) return;
      ctx.beginPath();
      data.spectrum_db.forEach((level, n) => ctx.lineTo((n / data.spectrum_db.length) * width, y(Math.max(-120, level))));
      ctx.strokeStyle = colours.wave;
      ctx.lineWidth = 1;
      ctx.stroke();
    },
    [data, root, take.rate_hz, take.facts?.pitch?.hz],
  );
  if (!held) return <p className="text-ink3">This take is being measured.</p>;
  const set = (label: string, fact: Fact, value: unknown, all = takes) =>
    void change(view.id, all.length > 1 ? `${label} of ${all.length} takes` : label, all.map((t) => ({ take: t.id, fact, value }))).catch(sayError);
  const off = centsFromPlan(take);
  const facts = take.facts;
  return (
    <>
      <BenchHead
        on={on}
        note={
          off === undefined ? <Badge>no pitch of its own</Badge>
          : Math.abs(off) > 60 ? <Badge wrong>this is {keyName(facts!.pitch!.key)}, the cell is {keyName(take.cell.key)}</Badge>
          : Math.abs(off) > CHECK_CENTS ? <Badge>{tunePlot.show(off)}</Badge>
          : null
        }
      />
      <div className="card shrink-0 p-0">
        <div className="flex items-baseline justify-between px-3 pt-2"><b className="font-semibold">Pitch over time</b><span className="num text-ink3">{facts?.pitch ? `${facts.pitch.hz.toFixed(2)} Hz · sure ${(100 * facts.pitch.confidence).toFixed(0)} %` : "no pitch heard"}</span></div>
        <div className="relative h-[170px]"><Canvas draw={drawCurve} role="img" aria-label="Pitch over time, in cents from the root" /></div>
      </div>
      <div className="card shrink-0">
        <div className="px-3 pt-2"><b className="font-semibold">Spectrum</b> <span className="text-ink3">fundamental and partials marked</span></div>
        <div className="relative h-[190px]"><Canvas draw={drawSpectrum} role="img" aria-label="Spectrum with the fundamental and its partials marked" /></div>
      </div>
      <div className="card flex flex-wrap items-end gap-3 p-3">
        <Field label="Root key" width="90px" value={held.root_key} unit={key} byHand={take.correction.root_key != null} onSet={(v) => set("set the root", "root_key", Math.round(v))} onAutomatic={() => set("root back to automatic", "root_key", undefined)} />
        <Field label="Recording is sharp by" width="140px" value={held.recording_cents} unit={cents} byHand={take.correction.recording_cents != null} onSet={(v) => set("set the cents", "recording_cents", v)} onAutomatic={() => set("cents back to automatic", "recording_cents", undefined)} />
        <Field label="Added on playing" width="120px" value={held.tune_cents} unit={cents} byHand={take.correction.tune_cents != null} onSet={(v) => set("change the tuning", "tune_cents", v)} onAutomatic={() => set("tuning back to equal temperament", "tune_cents", undefined)} />
        <div className="grow" />
        <button className={`button ${reference ? "on" : ""}`} aria-pressed={reference} onClick={() => setReference(!reference)}>Reference tone</button>
        <HearButton keyNumber={take.cell.key} velocity={velocityOf(on)} />
      </div>
      <Tuning on={on} />
    </>
  );
}

type Rule = Schemas["TuningRule"];
const RULES: { value: Rule; name: string }[] = [
  { value: "equal", name: "to equal temperament" },
  { value: "own_curve", name: "to the ladder's own curve" },
  { value: "as_recorded", name: "leave as it is" },
];

/** One rule for all that are chosen; root and cents stay the truth about the recordings. */
function Tuning({ on }: { on: OnBench }) {
  const { takes, view } = on;
  const [rule, setRule] = useState<Rule>("own_curve");
  const apply = async () => {
    const proposed = answer(await api.POST("/api/instruments/{id}/even", { params: { path: { id: view.id } }, body: { even: { tuning: { rule } }, takes: takes.map((t) => t.id) } }));
    await change(view.id, `tune ${proposed.length} takes ${RULES.find((r) => r.value === rule)!.name}`, proposed.map(({ take, value }) => ({ take, fact: "tune_cents" as const, value: rule === "equal" ? undefined : value })));
  };
  return (
    <section className="card flex flex-wrap items-end gap-3 p-3" aria-label="Tuning of all chosen">
      <div className="w-52"><Choice label="Tuning of all chosen" value={rule} onChange={setRule} options={RULES} /></div>
      <button className="button" onClick={() => void apply().catch(sayError)}>Tune {takes.length} {takes.length === 1 ? "take" : "takes"}</button>
      <p className="min-w-0 flex-1 pb-1 text-ink3">{rule === "own_curve" ? "Single faults are taken out; what is sharp or flat throughout stays." : rule === "equal" ? "Every take is corrected to its key." : "Every take sounds as it was recorded."}</p>
    </section>
  );
}
