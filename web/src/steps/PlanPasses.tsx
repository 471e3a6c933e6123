// The passes of a plan: one is edited at a time.
import type { Plan } from "../api/client";
import { freshName } from "../model/cells";
import { count } from "../model/units";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { Written } from "../parts/Written";
import { sayError } from "../state/view";
import type { Pass } from "./PlanForm";
import { layersOf } from "./PlanLayers";

const ADDED: { value: string; name: string; pass: (first: Pass) => Pass | Promise<Pass> }[] = [
  {
    value: "key_up",
    name: "Keys going up",
    pass: async (first) => ({
      ...first,
      id: freshName(),
      name: "Keys up",
      sounds_on: "key_up",
      layers: await layersOf(1, []),
      round_robins: 1,
      hold_ms: 800,
      hold_high_ms: null,
      tail_ms: 2000,
      controller: null,
    }),
  },
  {
    value: "pedal",
    name: "With the pedal held",
    pass: (first) => ({ ...first, id: freshName(), name: "Pedal down", controller: { number: 64, value: 127 } }),
  },
  {
    value: "controller",
    name: "With a controller held",
    pass: (first) => ({ ...first, id: freshName(), name: "Wheel at 64", controller: { number: 1, value: 64 } }),
  },
];

/** The passes of the plan: one is edited at a time. */
export function Passes({
  plan,
  index,
  onChange,
  setPass,
}: {
  plan: Plan;
  index: number;
  onChange: (plan: Plan) => void;
  setPass: (pass: number) => void;
}) {
  const pass = plan.passes[index]!;
  const set = (values: Partial<Pass>) => onChange({ ...plan, passes: plan.passes.map((p, n) => (n === index ? { ...p, ...values } : p)) });
  const add = async (id: string) => {
    const made = await ADDED.find((a) => a.value === id)?.pass(plan.passes[0]!);
    if (!made) return;
    onChange({ ...plan, passes: [...plan.passes, made] });
    setPass(plan.passes.length);
  };
  // A list of values makes a pass of each.
  const each = (text: string) => {
    const list = text
      .split(/[\s,;]+/)
      .filter(Boolean)
      .map(Number)
      .filter((v) => Number.isInteger(v) && v >= 0 && v <= 127);
    if (list.length === 0 || !pass.controller) return false;
    const made = list.map((value, n) => ({
      ...pass,
      id: n === 0 ? pass.id : freshName(),
      name: `${pass.name.replace(/ at \d+$/, "")} at ${value}`,
      controller: { number: pass.controller!.number, value },
    }));
    onChange({ ...plan, passes: [...plan.passes.slice(0, index), ...made, ...plan.passes.slice(index + 1)] });
    return false;
  };
  return (
    <section className="flex flex-wrap items-end gap-3" aria-label="Passes">
      <div className="flex flex-wrap gap-1" role="tablist" aria-label="Passes">
        {plan.passes.map((p, n) => (
          <button
            key={p.id}
            role="tab"
            aria-selected={n === index}
            className={`button ${n === index ? "on" : ""}`}
            onClick={() => setPass(n)}
          >
            {p.name}
          </button>
        ))}
      </div>
      <div className="w-40">
        <Choice quiet label="Add a pass" value="" onChange={(id) => void add(id).catch(sayError)} options={ADDED} />
      </div>
      {plan.passes.length > 1 && (
        <>
          <Written
            label="Name of the pass"
            place="w-32"
            value={pass.name}
            onKeep={(name) => (name.trim() ? set({ name: name.trim() }) : false)}
          />
          {pass.controller && (
            <>
              <Field
                label="Controller"
                width="80px"
                value={pass.controller.number}
                unit={count}
                onSet={(v) => set({ controller: { ...pass.controller!, number: Math.min(119, Math.max(0, Math.round(v))) } })}
              />
              <Field
                label="Held at"
                width="70px"
                value={pass.controller.value}
                unit={count}
                onSet={(v) => set({ controller: { ...pass.controller!, value: Math.min(127, Math.max(0, Math.round(v))) } })}
              />
              <Written label="or at each of" place="w-36" className="num" placeholder="0 32 64 127" value="" onKeep={each} />
            </>
          )}
          <button
            className="button"
            onClick={() => {
              onChange({ ...plan, passes: plan.passes.filter((_, n) => n !== index) });
              setPass(0);
            }}
          >
            Remove this pass
          </button>
        </>
      )}
    </section>
  );
}
