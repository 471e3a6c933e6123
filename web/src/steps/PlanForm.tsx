// What will be recorded: first what it is, then how far up and down, then how finely and how often; the cost, live.
import { useQuery } from "@tanstack/react-query";
import { useEffect, useEffectEvent } from "react";
import { answer, api, type Plan, type Schemas } from "../api/client";
import { count, duration, key, megabytes, seconds } from "../model/units";
import { keyName, parseKey } from "../model/keys";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { Written } from "../parts/Written";
import { costQuery, rigsQuery } from "../state/queries";
import { sayError, useView } from "../state/view";
import { Chord } from "./PlanChord";
import { Layers, layersOf } from "./PlanLayers";
import { Passes } from "./PlanPasses";

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
const DISTANCES = [1, 2, 3, 4, 6, 12].map((keys) => ({
  value: String(keys),
  name: keys === 1 ? "every key" : keys === 12 ? "an octave" : `${keys} keys`,
}));
const BY_HAND = { value: "0", name: "picked by hand" };
/** Rates, widths and channels that recordings are kept as. */
const FORMS = [44100, 48000, 96000].flatMap((rate) =>
  [24, 32].flatMap((bits) =>
    [2, 1].map((channels) => ({
      value: `${rate}/${bits}/${channels}`,
      name: `${rate / 1000} kHz, ${bits} bit, ${channels === 2 ? "stereo" : "mono"}`,
    })),
  ),
);

function rungsOf(low: number, high: number, distance: number): number[] {
  return Array.from({ length: Math.floor((high - low) / distance) + 1 }, (_, n) => low + n * distance);
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
  const setSource = (values: Partial<Plan["source"]>) => onChange({ ...plan, source: { ...plan.source, ...values } });
  const rig = rigs.data?.find((r) => r.id === plan.source.rig);
  const setForm = (form: string) => {
    const [rate_hz, bits, channels] = form.split("/").map(Number);
    onChange({ ...plan, rate_hz: rate_hz!, bits: bits!, channels: channels! });
  };
  const bound = (v: number, from: number, to: number) => Math.min(to, Math.max(from, Math.round(v)));
  const because = (about: string) => reasons?.find((r) => r.about === about)?.because;
  const ask = (title: string, children: React.ReactNode, ...abouts: string[]) => {
    const why = abouts.map(because).filter(Boolean).join("; ");
    return (
      <fieldset className="card p-3">
        <legend className="float-left mb-2 w-full">
          <b className="font-semibold">{title}</b>
          {why && <span className="ml-2 text-[12px] text-ink3">{why}</span>}
        </legend>
        <div className="clear-both grid grid-cols-3 gap-3">{children}</div>
      </fieldset>
    );
  };
  // While rungs are picked, a click on the ladder adds or removes one.
  const addOrRemove = useEffectEvent((clicked: number) => {
    const has = pass.rungs.includes(clicked);
    if (has && pass.rungs.length === 1) return;
    set({ rungs: has ? pass.rungs.filter((r) => r !== clicked) : [...pass.rungs, clicked].sort((a, b) => a - b) });
  });
  const picks = pick !== undefined;
  useEffect(() => {
    if (picks) setPick((clicked) => addOrRemove(clicked));
  }, [picks, setPick]);
  useEffect(() => () => setPick(undefined), [setPick]);
  return (
    <>
      <Passes plan={plan} index={index} onChange={onChange} setPass={setPass} />
      {how === "over_midi" &&
        ask(
          "What it is and how it sounds",
          <>
            <Choice
              label="Rig"
              value={plan.source.rig}
              onChange={(id) => setSource({ rig: id, program: 1 })}
              options={rigs.data?.filter((r) => !r.by_hand).map((r) => ({ value: r.id, name: r.name })) ?? []}
            />
            {rig && rig.programs.length > 0 ? (
              <Choice
                label="MIDI program"
                value={String(plan.source.program)}
                onChange={(p) => setSource({ program: Number(p) })}
                options={rig.programs.map((name, n) => ({ value: String(n + 1), name: `${n + 1} ${name}` }))}
              />
            ) : (
              <Field
                label="MIDI program"
                value={plan.source.program}
                unit={count}
                onSet={(v) => setSource({ program: bound(v, 1, 128) })}
              />
            )}
            {!reasons && <KindChoice plan={plan} onChange={onChange} />}
            {rig && !rig.simulated && (
              <>
                <Field
                  label="MIDI channel"
                  value={plan.source.channel}
                  unit={count}
                  onSet={(v) => setSource({ channel: bound(v, 1, 16) })}
                />
                <Field
                  label="MIDI bank"
                  value={plan.source.bank ?? undefined}
                  unit={count}
                  byHand={plan.source.bank != null}
                  onSet={(v) => setSource({ bank: bound(v, 0, 16383) })}
                  onAutomatic={() => setSource({ bank: null })}
                />
              </>
            )}
            <Times pass={pass} set={set} bound={bound} />
            <Chord pass={pass} set={set} />
          </>,
          "hold",
          "tail",
        )}
      {how !== "over_midi" &&
        ask(
          "What it is and how it sounds",
          <>
            {!reasons && <KindChoice plan={plan} onChange={onChange} />}
            <Times pass={pass} set={set} bound={bound} />
            {(pass.chord ?? []).length > 0 && <Chord pass={pass} set={set} />}
          </>,
          "hold",
          "tail",
        )}
      {ask(
        "How far up and down",
        <>
          <Field
            label="Lowest rung"
            value={low}
            unit={key}
            onSet={(v) => set({ rungs: distance === 0 ? pass.rungs.filter((r) => r >= v) : rungsOf(bound(v, 0, high), high, distance) })}
          />
          <Field
            label="Highest rung"
            value={high}
            unit={key}
            onSet={(v) => set({ rungs: distance === 0 ? pass.rungs.filter((r) => r <= v) : rungsOf(low, bound(v, low, 127), distance) })}
          />
          <Choice
            label="Distance between"
            value={String(distance)}
            onChange={(d) => d !== "0" && set({ rungs: rungsOf(low, high, Number(d)) })}
            options={distance === 0 ? [BY_HAND, ...DISTANCES] : DISTANCES}
          />
          <div className="col-span-3 flex items-end gap-3">
            <RungList rungs={pass.rungs} onSet={(rungs) => set({ rungs })} />
            <button
              className={`button ${pick ? "on" : ""}`}
              aria-pressed={pick !== undefined}
              title="A click on a key of the ladder adds or removes its rung; takes that are there stay"
              onClick={() => setPick(pick ? undefined : () => undefined)}
            >
              {pick ? "Picking on the ladder" : "Pick on the ladder"}
            </button>
          </div>
        </>,
        "rungs",
      )}
      {ask(
        "How finely and how often",
        <>
          <Field
            label="Strengths"
            value={pass.layers.length}
            unit={count}
            onSet={(v) =>
              void layersOf(bound(v, 1, 127), pass.layers)
                .then((layers) => set({ layers }))
                .catch(sayError)
            }
          />
          <Field label="Round robins" value={pass.round_robins} unit={count} onSet={(v) => set({ round_robins: bound(v, 1, 64) })} />
          <Choice label="Kept as" value={`${plan.rate_hz}/${plan.bits}/${plan.channels}`} onChange={setForm} options={FORMS} />
          <Mics plan={plan} onChange={onChange} />
          <Layers pass={pass} lows={cost.data?.passes[index]?.low_velocities ?? []} byHand={how === "by_hand"} set={set} />
        </>,
        "layers",
        "round_robins",
      )}
      <div
        className="card num sticky -bottom-4 z-10 flex shrink-0 flex-wrap items-baseline gap-x-6 gap-y-1 !bg-act-soft p-3"
        data-part="cost"
        aria-live="polite"
      >
        {cost.isError ? (
          <span className="font-sans text-mark">{cost.error.message}</span>
        ) : cost.data ? (
          <>
            <span>
              <b>{cost.data.notes}</b> <span className="font-sans">notes</span>
            </span>
            <span>
              <b>{duration(cost.data.seconds)}</b> <span className="font-sans">at most</span>
            </span>
            <span>
              <b>{megabytes(cost.data.bytes)}</b>
            </span>
            <span className="font-sans">
              furthest stretch <b>{cost.data.furthest_stretch_keys}</b> {cost.data.furthest_stretch_keys === 1 ? "key" : "keys"} down, ×
              {(2 ** (cost.data.furthest_stretch_keys / 12)).toFixed(2)} as long
            </span>
          </>
        ) : null}
      </div>
    </>
  );
}

function KindChoice({ plan, onChange }: { plan: Plan; onChange: (plan: Plan) => void }) {
  // Another kind brings its own first plan: only what it says of time, strengths and turns is taken over.
  const take = async (kind: Kind) => {
    const offer = answer(
      await api.GET("/api/plan/offer", { params: { query: { kind, how: plan.source.how ?? "over_midi", rig: plan.source.rig } } }),
    );
    const from = offer.plan.passes[0]!;
    onChange({ ...plan, kind, passes: plan.passes.map((p, n) => (n === 0 ? { ...p, hold_ms: from.hold_ms, tail_ms: from.tail_ms } : p)) });
  };
  return <Choice<Kind> label="It sounds" value={plan.kind} onChange={(kind) => void take(kind).catch(sayError)} options={KINDS} />;
}

function Times({
  pass,
  set,
  bound,
}: {
  pass: Pass;
  set: (values: Partial<Pass>) => void;
  bound: (v: number, from: number, to: number) => number;
}) {
  const ms = (v: number) => bound(v * 1000, 50, 600_000);
  return (
    <>
      <Field label="Held for" value={pass.hold_ms / 1000} unit={seconds} onSet={(v) => set({ hold_ms: ms(v) })} />
      <Field
        label="Held, highest rung"
        value={(pass.hold_high_ms ?? pass.hold_ms) / 1000}
        unit={seconds}
        byHand={pass.hold_high_ms != null}
        onSet={(v) => set({ hold_high_ms: ms(v) })}
        onAutomatic={() => set({ hold_high_ms: null })}
      />
      <Field label="Longest tail" value={pass.tail_ms / 1000} unit={seconds} onSet={(v) => set({ tail_ms: ms(v) })} />
    </>
  );
}

/** Mics that are recorded at once: names, with commas. */
function Mics({ plan, onChange }: { plan: Plan; onChange: (plan: Plan) => void }) {
  const keep = (text: string) => {
    const mics = [
      ...new Set(
        text
          .split(",")
          .map((m) => m.trim())
          .filter(Boolean),
      ),
    ];
    onChange({ ...plan, mics });
  };
  return (
    <Written
      label="Mics at once, with commas between; none for a single one"
      place="col-span-3"
      placeholder="close, room"
      value={(plan.mics ?? []).join(", ")}
      onKeep={keep}
    />
  );
}

function RungList({ rungs, onSet }: { rungs: number[]; onSet: (rungs: number[]) => void }) {
  const keep = (text: string) => {
    const keys = text
      .split(/[\s,;]+/)
      .filter(Boolean)
      .map(parseKey);
    const known = keys.length > 0 && keys.every((k) => k !== undefined);
    if (known) onSet([...new Set(keys)].sort((a, b) => a - b));
    else sayError(new Error("Not every rung was understood: write them as C3, F♯4 or 60, with spaces between."));
    return known;
  };
  return (
    <Written
      label={`Rungs (${rungs.length})`}
      place="min-w-0 flex-1"
      className="num text-[12px]"
      value={rungs.map(keyName).join(" ")}
      onKeep={keep}
    />
  );
}
