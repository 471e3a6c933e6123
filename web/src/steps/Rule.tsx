// What the rule makes of the takes, as they come and go.
import type { InstrumentView } from "../api/client";
import { count, semitones } from "../model/units";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { Brought } from "./Brought";
import { change, changePlan } from "../state/edits";
import { sayError } from "../state/view";

type Settings = InstrumentView["map"];

const FILLS: { value: Settings["fill"]; name: string }[] = [
  { value: "down", name: "stretch the upper rung down" },
  { value: "up", name: "stretch the lower rung up" },
  { value: "middle", name: "meet in the middle" },
  { value: "none", name: "leave them silent" },
];

const ORDERS: { value: Settings["turn_order"]; name: string }[] = [
  { value: "in_order", name: "one after another" },
  { value: "random", name: "at random" },
  { value: "shuffled", name: "at random, never the same twice" },
];

/** Steps of velocity. */
const strikes = { ...count, show: (v: number) => (v === 0 ? "no strikes" : `${v} ${v === 1 ? "strike" : "strikes"}`) };

export function Rule({ view }: { view: InstrumentView }) {
  return (
    <div className="card p-3" data-part="rule">
      <Brought view={view} />
      {!view.brought?.as_brought && <ByRule view={view} />}
    </div>
  );
}

function ByRule({ view }: { view: InstrumentView }) {
  const { map } = view;
  const set = (fact: keyof Settings, value: number | string, label: string) =>
    void change(view.id, label, [{ fact, value }]).catch(sayError);
  const keys = (fact: "furthest_stretch_keys" | "below_keys" | "above_keys", name: string, label: string) => (
    <Field label={name} value={map[fact]} unit={semitones} onSet={(v) => set(fact, Math.min(127, Math.max(0, Math.round(v))), label)} />
  );
  const layered = view.plan.passes.some((pass) => pass.layers.length > 1);
  const inTurn = view.program.regions.some(({ when }) => when.turn !== "always");
  return (
    <>
      <div className="grid grid-cols-2 gap-3">
        <Choice
          label="Keys between two rungs"
          value={map.fill}
          options={FILLS}
          onChange={(fill) => set("fill", fill, "fill the gaps another way")}
        />
        {keys("furthest_stretch_keys", "Furthest stretch", "change the furthest stretch")}
        {keys("below_keys", "Below the lowest rung", "change the keys below")}
        {keys("above_keys", "Above the highest rung", "change the keys above")}
        {layered && (
          <Field
            label="Layers cross over"
            value={map.strike_crossfade}
            unit={strikes}
            onSet={(v) => set("strike_crossfade", Math.min(126, Math.max(0, Math.round(v))), "cross layers otherwise")}
          />
        )}
        {inTurn && (
          <Choice
            label="Round robins sound"
            value={map.turn_order}
            options={ORDERS}
            onChange={(order) => set("turn_order", order, "change the order of round robins")}
          />
        )}
      </div>
      {view.plan.passes.map((pass, n) => (
        <Thresholds key={pass.id} view={view} place={n} />
      ))}
      <p className="mt-3 text-[12px] text-ink3">
        The rule follows the takes as they come and go. What was set by hand stays, has a broken line on the board, and is given back under
        Region.
      </p>
    </>
  );
}

/** Where the layers of a pass meet, and over how many strikes each crosses into the next. */
function Thresholds({ view, place }: { view: InstrumentView; place: number }) {
  const pass = view.plan.passes[place]!;
  const lows = view.figures[place]?.low_velocities ?? [];
  if (pass.layers.length < 2) return null;
  const set = (n: number, values: Partial<(typeof pass.layers)[number]>, label: string) => {
    const layers = pass.layers.map((layer, m) => (m === n ? { ...layer, ...values } : layer));
    const passes = view.plan.passes.map((other, m) => (m === place ? { ...pass, layers } : other));
    void changePlan(view, label, { ...view.plan, passes }).catch(sayError);
  };
  return (
    <div className="mt-3 border-t border-line2 pt-3" data-part="thresholds">
      <h3 className="mb-2 text-[12px] text-ink3">{view.plan.passes.length > 1 ? `Layers of ${pass.name}` : "Layers"}</h3>
      <div className="grid grid-cols-4 gap-3">
        {pass.layers.map((layer, n) =>
          n === 0 ? null : (
            <div key={layer.id} className="col-span-2 grid grid-cols-2 gap-3">
              <Field
                label={`${layer.name} from strike`}
                value={lows[n]}
                unit={count}
                byHand={layer.low_velocity != null}
                onSet={(v) => set(n, { low_velocity: Math.min(127, Math.max(2, Math.round(v))) }, `move where ${layer.name} begins`)}
                onAutomatic={() => set(n, { low_velocity: null }, `give where ${layer.name} begins back`)}
              />
              <Field
                label="crossing over"
                value={layer.crossfade ?? view.map.strike_crossfade}
                unit={strikes}
                byHand={layer.crossfade != null}
                onSet={(v) => set(n, { crossfade: Math.min(126, Math.max(0, Math.round(v))) }, `cross into ${layer.name} otherwise`)}
                onAutomatic={() => set(n, { crossfade: null }, `cross into ${layer.name} as the others`)}
              />
            </div>
          ),
        )}
      </div>
    </div>
  );
}
