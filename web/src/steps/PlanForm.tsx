// What will be recorded: first what it is, then how far up and down, then how finely and how often; the cost, live.
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { answer, api, type Plan, type Schemas } from "../api/client";
import { count, duration, key, megabytes, seconds } from "../model/units";
import { keyName, parseKey } from "../model/keys";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { costQuery, rigsQuery } from "../state/queries";
import { sayError, useView } from "../state/view";

export type Kind = Plan["kind"];
export type How = NonNullable<Plan["source"]["how"]>;
export type Pass = Plan["passes"][number];
type Reason = Schemas["Reason"];

export const KINDS: { value: Kind; name: string; says: string }[] = [
  { value: "sustained", name: "Sustained", says: "sounds evenly as long as the key is down" },
  { value: "pad", name: "Slowly changing", says: "sounds as long as the key is down, and moves" },
  { value: "voice", name: "Voice or wind", says: "sounds as long as the breath" },
  { value: "struck", name: "Struck", says: "dies away by itself" },
  { value: "plucked", name: "Plucked", says: "dies away by itself" },
  { value: "drum", name: "Drum or noise", says: "has no note of its own" },
];
export const HOWS: { value: How; name: string; says: string }[] = [
  { value: "over_midi", name: "Over MIDI", says: "a synthesiser plays itself, unattended" },
  { value: "by_hand", name: "By hand", says: "one prompted note after another" },
  { value: "long_take", name: "One long take", says: "recorded or brought, then sliced" },
  { value: "files", name: "Files", says: "that exist already" },
];
const DISTANCES = [1, 2, 3, 4, 6, 12];

function rungsOf(low: number, high: number, distance: number): number[] {
  return Array.from({ length: Math.floor((high - low) / distance) + 1 }, (_, n) => low + n * distance);
}

async function layersOf(count: number): Promise<Pass["layers"]> {
  return answer(await api.GET("/api/plan/layers", { params: { query: { count } } }));
}

export function PlanForm({ plan, reasons, onChange }: { plan: Plan; reasons?: Reason[]; onChange: (plan: Plan) => void }) {
  const rigs = useQuery(rigsQuery);
  const { pass: at, setPass, pick, setPick } = useView();
  const index = Math.min(at, plan.passes.length - 1);
  const pass = plan.passes[index]!;
  const cost = useQuery(costQuery(plan));
  const how = plan.source.how ?? "over_midi";
  const [low, high] = [pass.rungs[0] ?? 48, pass.rungs.at(-1) ?? 72];
  const gaps = new Set(pass.rungs.slice(1).map((rung, n) => rung - pass.rungs[n]!));
  const distance = gaps.size === 1 ? [...gaps][0]! : pass.rungs.length < 2 ? 12 : 0;
  const set = (values: Partial<Pass>) => onChange({ ...plan, passes: plan.passes.map((p, n) => (n === index ? { ...p, ...values } : p)) });
  const rig = rigs.data?.find((r) => r.id === plan.source.rig);
  const bound = (v: number, from: number, to: number) => Math.min(to, Math.max(from, Math.round(v)));
  const because = (about: string) => reasons?.find((r) => r.about === about)?.because;
  const ask = (title: string, children: React.ReactNode, ...abouts: string[]) => {
    const why = abouts.map(because).filter(Boolean).join("; ");
    return (
      <fieldset className="card p-3">
        <legend className="float-left mb-2 w-full"><b className="font-semibold">{title}</b>{why && <span className="ml-2 text-[12px] text-ink3">{why}</span>}</legend>
        <div className="clear-both grid grid-cols-3 gap-3">{children}</div>
      </fieldset>
    );
  };
  // While rungs are picked, a click on the ladder adds or removes one.
  useEffect(() => {
    if (!pick) return undefined;
    setPick((clicked) => {
      const has = pass.rungs.includes(clicked);
      if (has && pass.rungs.length === 1) return;
      set({ rungs: has ? pass.rungs.filter((r) => r !== clicked) : [...pass.rungs, clicked].sort((a, b) => a - b) });
    });
    return undefined;
  }, [plan, index, pick !== undefined]);
  useEffect(() => () => setPick(undefined), [setPick]);
  return (
    <>
      <Passes plan={plan} index={index} onChange={onChange} setPass={setPass} />
      {how === "over_midi" && ask("What it is and how it sounds", (
        <>
          <Choice label="Rig" value={plan.source.rig} onChange={(id) => onChange({ ...plan, source: { ...plan.source, rig: id, program: 1 } })} options={rigs.data?.filter((r) => !r.by_hand).map((r) => ({ value: r.id, name: r.name })) ?? []} />
          {rig && rig.programs.length > 0 ? (
            <Choice label="MIDI program" value={String(plan.source.program)} onChange={(p) => onChange({ ...plan, source: { ...plan.source, program: Number(p) } })} options={rig.programs.map((name, n) => ({ value: String(n + 1), name: `${n + 1} ${name}` }))} />
          ) : (
            <Field label="MIDI program" value={plan.source.program} unit={count} onSet={(v) => onChange({ ...plan, source: { ...plan.source, program: bound(v, 1, 128) } })} />
          )}
          {!reasons && <KindChoice plan={plan} onChange={onChange} />}
          {rig && !rig.simulated && (
            <>
              <Field label="MIDI channel" value={plan.source.channel} unit={count} onSet={(v) => onChange({ ...plan, source: { ...plan.source, channel: bound(v, 1, 16) } })} />
              <Field label="MIDI bank" value={plan.source.bank ?? undefined} unit={count} byHand={plan.source.bank != null} onSet={(v) => onChange({ ...plan, source: { ...plan.source, bank: bound(v, 0, 16383) } })} onAutomatic={() => onChange({ ...plan, source: { ...plan.source, bank: null } })} />
            </>
          )}
          <Times pass={pass} set={set} bound={bound} />
        </>
      ), "hold", "tail")}
      {how !== "over_midi" && ask("What it is and how it sounds", (
        <>
          {!reasons && <KindChoice plan={plan} onChange={onChange} />}
          <Times pass={pass} set={set} bound={bound} />
        </>
      ), "hold", "tail")}
      {ask("How far up and down", (
        <>
          <Field label="Lowest rung" value={low} unit={key} onSet={(v) => set({ rungs: distance === 0 ? pass.rungs.filter((r) => r >= v) : rungsOf(bound(v, 0, high), high, distance) })} />
          <Field label="Highest rung" value={high} unit={key} onSet={(v) => set({ rungs: distance === 0 ? pass.rungs.filter((r) => r <= v) : rungsOf(low, bound(v, low, 127), distance) })} />
          <Choice label="Distance between" value={String(distance)} onChange={(d) => d !== "0" && set({ rungs: rungsOf(low, high, Number(d)) })} options={[...(distance === 0 ? [{ value: "0", name: "picked by hand" }] : []), ...DISTANCES.map((d) => ({ value: String(d), name: d === 1 ? "every key" : d === 12 ? "an octave" : `${d} keys` }))]} />
          <div className="col-span-3 flex items-end gap-3">
            <RungList rungs={pass.rungs} onSet={(rungs) => set({ rungs })} />
            <button className={`button ${pick ? "on" : ""}`} aria-pressed={pick !== undefined} title="A click on a key of the ladder adds or removes its rung; takes that are there stay" onClick={() => setPick(pick ? undefined : () => undefined)}>{pick ? "Picking on the ladder" : "Pick on the ladder"}</button>
          </div>
        </>
      ), "rungs")}
      {ask("How finely and how often", (
        <>
          <Field label="Strengths" value={pass.layers.length} unit={count} onSet={(v) => void layersOf(bound(v, 1, 127)).then((layers) => set({ layers })).catch(sayError)} />
          <Field label="Round robins" value={pass.round_robins} unit={count} onSet={(v) => set({ round_robins: bound(v, 1, 64) })} />
          <Choice label="Kept as" value={`${plan.rate_hz}/${plan.bits}/${plan.channels}`} onChange={(v) => { const [rate, bits, channels] = v.split("/").map(Number); onChange({ ...plan, rate_hz: rate!, bits: bits!, channels: channels! }); }} options={[44100, 48000, 96000].flatMap((rate) => [24, 32].flatMap((bits) => [2, 1].map((channels) => ({ value: `${rate}/${bits}/${channels}`, name: `${rate / 1000} kHz, ${bits} bit, ${channels === 2 ? "stereo" : "mono"}` }))))} />
          <Mics plan={plan} onChange={onChange} />
          <Layers pass={pass} lows={cost.data?.passes[index]?.low_velocities ?? []} byHand={how === "by_hand"} set={set} />
        </>
      ), "layers", "round_robins")}
      <div className="card num sticky -bottom-4 z-10 flex shrink-0 flex-wrap items-baseline gap-x-6 gap-y-1 !bg-act-soft p-3" data-part="cost" aria-live="polite">
        {cost.isError ? (
          <span className="font-sans text-mark">{cost.error.message}</span>
        ) : cost.data ? (
          <>
            <span><b>{cost.data.notes}</b> <span className="font-sans">notes</span></span>
            <span><b>{duration(cost.data.seconds)}</b> <span className="font-sans">at most</span></span>
            <span><b>{megabytes(cost.data.bytes)}</b></span>
            <span className="font-sans">furthest stretch <b>{cost.data.furthest_stretch_keys}</b> {cost.data.furthest_stretch_keys === 1 ? "key" : "keys"} down, ×{(2 ** (cost.data.furthest_stretch_keys / 12)).toFixed(2)} as long</span>
          </>
        ) : null}
      </div>
    </>
  );
}

function KindChoice({ plan, onChange }: { plan: Plan; onChange: (plan: Plan) => void }) {
  // Another kind brings its own first plan: only what it says of time, strengths and turns is taken over.
  const take = async (kind: Kind) => {
    const offer = answer(await api.GET("/api/plan/offer", { params: { query: { kind, how: plan.source.how ?? "over_midi", rig: plan.source.rig } } }));
    const from = offer.plan.passes[0]!;
    onChange({ ...plan, kind, passes: plan.passes.map((p, n) => (n === 0 ? { ...p, hold_ms: from.hold_ms, tail_ms: from.tail_ms } : p)) });
  };
  return <Choice<Kind> label="It sounds" value={plan.kind} onChange={(kind) => void take(kind).catch(sayError)} options={KINDS.map((k) => ({ value: k.value, name: k.name }))} />;
}

function Times({ pass, set, bound }: { pass: Pass; set: (values: Partial<Pass>) => void; bound: (v: number, from: number, to: number) => number }) {
  const ms = (v: number) => bound(v * 1000, 50, 600_000);
  return (
    <>
      <Field label="Held for" value={pass.hold_ms / 1000} unit={seconds} onSet={(v) => set({ hold_ms: ms(v) })} />
      <Field label="Held, highest rung" value={(pass.hold_high_ms ?? pass.hold_ms) / 1000} unit={seconds} byHand={pass.hold_high_ms != null} onSet={(v) => set({ hold_high_ms: ms(v) })} onAutomatic={() => set({ hold_high_ms: null })} />
      <Field label="Longest tail" value={pass.tail_ms / 1000} unit={seconds} onSet={(v) => set({ tail_ms: ms(v) })} />
    </>
  );
}

/** Mics that are recorded at once: names, with commas. */
function Mics({ plan, onChange }: { plan: Plan; onChange: (plan: Plan) => void }) {
  const shown = (plan.mics ?? []).join(", ");
  const [text, setText] = useState(shown);
  useEffect(() => setText(shown), [shown]);
  const keep = () => {
    const mics = [...new Set(text.split(",").map((m) => m.trim()).filter(Boolean))];
    if (mics.join(", ") !== shown) onChange({ ...plan, mics });
  };
  return (
    <label className="col-span-3">
      <span className="field-label">Mics at once, with commas between; none for a single one</span>
      <input className="mt-0.5 w-full rounded-lg border border-line bg-raised px-2 py-1" placeholder="close, room" value={text} onChange={(event) => setText(event.target.value)} onBlur={keep} onKeyDown={(event) => { if (event.key === "Enter") keep(); event.stopPropagation(); }} />
    </label>
  );
}

function RungList({ rungs, onSet }: { rungs: number[]; onSet: (rungs: number[]) => void }) {
  const shown = rungs.map(keyName).join(" ");
  const [text, setText] = useState(shown);
  useEffect(() => setText(shown), [shown]);
  const keep = () => {
    const keys = text.split(/[\s,;]+/).filter(Boolean).map(parseKey);
    if (keys.length > 0 && keys.every((k) => k !== undefined)) onSet([...new Set(keys as number[])].sort((a, b) => a - b));
    else if (text !== shown) {
      sayError(new Error("Not every rung was understood: write them as C3, F♯4 or 60, with spaces between."));
      setText(shown);
    }
  };
  return (
    <label className="min-w-0 flex-1">
      <span className="field-label">Rungs ({rungs.length})</span>
      <input className="num mt-0.5 w-full rounded-lg border border-line bg-raised px-2 py-1 text-[12px]" value={text} spellCheck={false} onChange={(event) => setText(event.target.value)} onBlur={keep} onKeyDown={(event) => { if (event.key === "Enter") keep(); event.stopPropagation(); }} />
    </label>
  );
}

function Layers({ pass, lows, byHand, set }: { pass: Pass; lows: number[]; byHand: boolean; set: (values: Partial<Pass>) => void }) {
  const change = (n: number, values: Partial<Pass["layers"][number]>) => set({ layers: pass.layers.map((l, m) => (m === n ? { ...l, ...values } : l)) });
  const whole = (text: string) => (/^\d+$/.test(text.trim()) ? Math.min(127, Math.max(1, Number(text))) : undefined);
  const cell = (label: string, value: string, keep: (text: string) => void, marked = false) => (
    <input key={`${label}${value}`} aria-label={label} className={`num w-full rounded border bg-raised px-1.5 py-0.5 text-[12px] ${marked ? "border-act font-semibold" : "border-line"}`} defaultValue={value} onBlur={(event) => event.target.value !== value && keep(event.target.value)} onKeyDown={(event) => { if (event.key === "Enter") event.currentTarget.blur(); event.stopPropagation(); }} />
  );
  return (
    <div className="col-span-3 max-h-[170px] overflow-auto">
      <table className="w-full text-left text-[12px]">
        <thead className="text-ink3"><tr><th className="font-normal">{byHand ? "how it is asked for" : "name"}</th><th className="w-[26%] pl-2 font-normal">{byHand ? "stands for velocity" : "struck with velocity"}</th><th className="w-[24%] pl-2 font-normal">plays from velocity</th><th className="w-[18%] pl-2 font-normal">round robins</th></tr></thead>
        <tbody>
          {pass.layers.map((layer, n) => (
            <tr key={n}>
              <td className="py-0.5">{cell(`Name of layer ${n + 1}`, layer.name, (name) => change(n, { name: name.trim() || layer.name }))}</td>
              <td className="py-0.5 pl-2">{cell(`Strike of ${layer.name}`, String(layer.strike_velocity), (text) => { const v = whole(text); if (v !== undefined) change(n, { strike_velocity: v }); })}</td>
              <td className="py-0.5 pl-2">{n === 0 ? <span className="num px-1.5 text-ink3">1</span> : cell(`Threshold of ${layer.name}`, String(lows[n] ?? ""), (text) => change(n, { low_velocity: text.trim() === "" ? null : (whole(text) ?? layer.low_velocity) }), layer.low_velocity != null)}</td>
              <td className="py-0.5 pl-2">{cell(`Round robins of ${layer.name}`, String(layer.round_robins ?? pass.round_robins), (text) => { const v = whole(text); change(n, { round_robins: v === undefined || v === pass.round_robins ? null : Math.min(64, v) }); }, layer.round_robins != null)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

const ADDED: { id: string; name: string; pass: (first: Pass) => Pass | Promise<Pass> }[] = [
  { id: "key_up", name: "Keys going up", pass: async (first) => ({ ...first, name: "Keys up", sounds_on: "key_up", layers: await layersOf(1), round_robins: 1, hold_ms: 800, hold_high_ms: null, tail_ms: 2000, controller: null }) },
  { id: "pedal", name: "With the pedal held", pass: (first) => ({ ...first, name: "Pedal down", controller: { number: 64, value: 127 } }) },
  { id: "controller", name: "With a controller held", pass: (first) => ({ ...first, name: "Wheel at 64", controller: { number: 1, value: 64 } }) },
];

/** The passes of the plan: one is edited at a time. */
function Passes({ plan, index, onChange, setPass }: { plan: Plan; index: number; onChange: (plan: Plan) => void; setPass: (pass: number) => void }) {
  const pass = plan.passes[index]!;
  const set = (values: Partial<Pass>) => onChange({ ...plan, passes: plan.passes.map((p, n) => (n === index ? { ...p, ...values } : p)) });
  const [values, setValues] = useState("");
  const add = async (id: string) => {
    const made = await ADDED.find((a) => a.id === id)?.pass(plan.passes[0]!);
    if (!made) return;
    onChange({ ...plan, passes: [...plan.passes, made] });
    setPass(plan.passes.length);
  };
  // A list of values makes a pass of each.
  const each = () => {
    const list = values.split(/[\s,;]+/).filter(Boolean).map(Number).filter((v) => Number.isInteger(v) && v >= 0 && v <= 127);
    if (list.length === 0 || !pass.controller) return;
    const made = list.map((value) => ({ ...pass, name: `${pass.name.replace(/ at \d+$/, "")} at ${value}`, controller: { number: pass.controller!.number, value } }));
    onChange({ ...plan, passes: [...plan.passes.slice(0, index), ...made, ...plan.passes.slice(index + 1)] });
    setValues("");
  };
  return (
    <section className="flex flex-wrap items-end gap-3" aria-label="Passes">
      <div className="flex flex-wrap gap-1" role="tablist" aria-label="Passes">
        {plan.passes.map((p, n) => (
          <button key={n} role="tab" aria-selected={n === index} className={`button ${n === index ? "on" : ""}`} onClick={() => setPass(n)}>{p.name}</button>
        ))}
      </div>
      <div className="w-40"><Choice quiet label="Add a pass" value="" onChange={(id) => void add(id).catch(sayError)} options={ADDED.map((a) => ({ value: a.id, name: a.name }))} /></div>
      {plan.passes.length > 1 && (
        <>
          <label className="w-32"><span className="field-label">Name of the pass</span><input key={pass.name} className="mt-0.5 w-full rounded-lg border border-line bg-raised px-2 py-1" defaultValue={pass.name} onBlur={(event) => event.target.value.trim() && event.target.value !== pass.name && set({ name: event.target.value.trim() })} onKeyDown={(event) => event.stopPropagation()} /></label>
          {pass.controller && (
            <>
              <Field label="Controller" width="80px" value={pass.controller.number} unit={count} onSet={(v) => set({ controller: { ...pass.controller!, number: Math.min(119, Math.max(0, Math.round(v))) } })} />
              <Field label="Held at" width="70px" value={pass.controller.value} unit={count} onSet={(v) => set({ controller: { ...pass.controller!, value: Math.min(127, Math.max(0, Math.round(v))) } })} />
              <label className="w-36"><span className="field-label">or at each of</span><input className="num mt-0.5 w-full rounded-lg border border-line bg-raised px-2 py-1" placeholder="0 32 64 127" value={values} onChange={(event) => setValues(event.target.value)} onKeyDown={(event) => { if (event.key === "Enter") each(); event.stopPropagation(); }} onBlur={each} /></label>
            </>
          )}
          <button className="button" onClick={() => { onChange({ ...plan, passes: plan.passes.filter((_, n) => n !== index) }); setPass(0); }}>Remove this pass</button>
        </>
      )}
    </section>
  );
}
