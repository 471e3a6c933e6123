// What will be recorded: first what it is, then how far up and down, then how finely and how often; the cost, live.
import { useQuery } from "@tanstack/react-query";
import { answer, api, type Plan } from "../api/client";
import { duration, key, count, megabytes, seconds } from "../model/units";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { rigsQuery } from "../state/queries";

type Kind = Plan["kind"];
const KINDS: { value: Kind; name: string; says: string; hold: number; tail: number }[] = [
  { value: "sustained", name: "Sustained", says: "sounds evenly as long as the key is down", hold: 3000, tail: 2000 },
  { value: "pad", name: "Slowly changing", says: "sounds as long as the key is down, and moves", hold: 12000, tail: 6000 },
  { value: "struck", name: "Struck or plucked", says: "dies away by itself", hold: 6000, tail: 4000 },
];
const DISTANCES = [1, 2, 3, 4, 6, 12];
const NAMES: Record<number, string[]> = { 1: ["all"], 2: ["soft", "loud"], 3: ["soft", "medium", "loud"], 4: ["soft", "medium", "loud", "hard"] };

export function firstPlan(): Plan {
  return {
    kind: "sustained",
    source: { rig: "night-ferry", channel: 1, program: 1 },
    rate_hz: 48000,
    bits: 24,
    channels: 2,
    passes: [{ name: "Keys", sounds_on: "key_down", rungs: rungsOf(36, 84, 6), layers: layersOf(2), round_robins: 1, hold_ms: 3000, tail_ms: 2000 }],
  };
}

function rungsOf(low: number, high: number, distance: number): number[] {
  return Array.from({ length: Math.floor((high - low) / distance) + 1 }, (_, n) => low + n * distance);
}

function layersOf(layers: number): Plan["passes"][number]["layers"] {
  // Strikes in the middle of equal parts of the velocities.
  return Array.from({ length: layers }, (_, n) => ({ name: NAMES[layers]?.[n] ?? `layer ${n + 1}`, strike_velocity: Math.round(((n + 0.8) / layers) * 115 + 8) }));
}

export function PlanForm({ plan, onChange }: { plan: Plan; onChange: (plan: Plan) => void }) {
  const rigs = useQuery(rigsQuery);
  const cost = useQuery({
    queryKey: ["cost", plan],
    queryFn: async () => answer(await api.POST("/api/plan/cost", { body: plan })),
    placeholderData: (previous) => previous,
    retry: false,
  });
  const pass = plan.passes[0]!;
  const [low, high] = [pass.rungs[0] ?? 48, pass.rungs.at(-1) ?? 72];
  const distance = pass.rungs.length > 1 ? pass.rungs[1]! - pass.rungs[0]! : 12;
  const set = (values: Partial<typeof pass>) => onChange({ ...plan, passes: [{ ...pass, ...values }, ...plan.passes.slice(1)] });
  const rig = rigs.data?.find((r) => r.id === plan.source.rig);
  const bound = (v: number, from: number, to: number) => Math.min(to, Math.max(from, Math.round(v)));
  const ask = (title: string, children: React.ReactNode) => (
    <fieldset className="card p-3">
      <legend className="float-left mb-2 w-full font-semibold">{title}</legend>
      <div className="clear-both grid grid-cols-3 gap-3">{children}</div>
    </fieldset>
  );
  return (
    <>
      {ask("What it is and how it sounds", (
        <>
          <Choice label="Rig" value={plan.source.rig} onChange={(id) => onChange({ ...plan, source: { ...plan.source, rig: id, program: 1 } })} options={rigs.data?.map((r) => ({ value: r.id, name: r.name })) ?? []} />
          <Choice label="MIDI program" value={String(plan.source.program)} onChange={(p) => onChange({ ...plan, source: { ...plan.source, program: Number(p) } })} options={rig?.programs.map((name, n) => ({ value: String(n + 1), name: `${n + 1} ${name}` })) ?? []} />
          <Choice<Kind>
            label="It sounds"
            value={plan.kind}
            onChange={(kind) => {
              const chosen = KINDS.find((k) => k.value === kind)!;
              onChange({ ...plan, kind, passes: [{ ...pass, hold_ms: chosen.hold, tail_ms: chosen.tail }, ...plan.passes.slice(1)] });
            }}
            options={KINDS.map((k) => ({ value: k.value, name: k.name }))}
          />
          <Field label="Held for" value={pass.hold_ms / 1000} unit={seconds} onSet={(v) => set({ hold_ms: bound(v * 1000, 50, 600_000) })} />
          <Field label="Longest tail" value={pass.tail_ms / 1000} unit={seconds} onSet={(v) => set({ tail_ms: bound(v * 1000, 50, 600_000) })} />
          <p className="self-end pb-1 text-[12px] text-ink3">It {KINDS.find((k) => k.value === plan.kind)?.says}.</p>
        </>
      ))}
      {ask("How far up and down", (
        <>
          <Field label="Lowest rung" value={low} unit={key} onSet={(v) => set({ rungs: rungsOf(bound(v, 0, high), high, distance) })} />
          <Field label="Highest rung" value={high} unit={key} onSet={(v) => set({ rungs: rungsOf(low, bound(v, low, 127), distance) })} />
          <Choice label="Distance between" value={String(distance)} onChange={(d) => set({ rungs: rungsOf(low, high, Number(d)) })} options={DISTANCES.map((d) => ({ value: String(d), name: d === 1 ? "every key" : d === 12 ? "an octave" : `${d} keys` }))} />
        </>
      ))}
      {ask("How finely and how often", (
        <>
          <Field label="Strengths" value={pass.layers.length} unit={count} onSet={(v) => set({ layers: layersOf(bound(v, 1, 16)) })} />
          <Field label="Round robins" value={pass.round_robins} unit={count} onSet={(v) => set({ round_robins: bound(v, 1, 16) })} />
          <Choice label="Kept as" value={`${plan.rate_hz}/${plan.bits}`} onChange={(v) => onChange({ ...plan, rate_hz: Number(v.split("/")[0]), bits: Number(v.split("/")[1]) })} options={[44100, 48000, 96000].flatMap((rate) => [24, 32].map((bits) => ({ value: `${rate}/${bits}`, name: `${rate / 1000} kHz, ${bits} bit` })))} />
          {pass.layers.map((layer, n) => (
            <Field key={n} label={`Strike of ${layer.name}`} value={layer.strike_velocity} unit={count} onSet={(v) => set({ layers: pass.layers.map((l, m) => (m === n ? { ...l, strike_velocity: bound(v, 1, 127) } : l)) })} />
          ))}
        </>
      ))}
      <div className="card num flex flex-wrap items-baseline gap-x-6 gap-y-1 bg-act-soft p-3" data-part="cost" aria-live="polite">
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
