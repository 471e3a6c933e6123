// The controller, or other source, that something is heard by, and a hand on it.
import type { Schemas } from "../api/client";
import { same, type Source, sourceName, sourcesOf } from "../model/driving";
import { controllerName } from "../model/strands";
import { count } from "../model/units";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { player, useSound } from "../sound/player";

type By = Schemas["ByController"];

interface Props {
  by: By | undefined;
  /** How it plays: its slow movements are among the sources. */
  shape: Pick<Schemas["Shape"], "movements"> | undefined;
  byHand: boolean;
  /** `undefined` for always. */
  onSet: (by: By | undefined) => void;
}

/** A limit within 0 to 127 that does not pass the other. */
function limited(by: By, which: "low" | "high" | "fade", value: number): By {
  const step = Math.min(127, Math.max(0, Math.round(value)));
  if (which === "low") return { ...by, low: Math.min(step, by.high) };
  return which === "high" ? { ...by, high: Math.max(step, by.low) } : { ...by, fade: step };
}

/** Keys and strikes have limits of their own, chance has turns; how fast a key comes up is known too late. */
const NONE_OF: Source[] = ["strike", "key", "key_up_speed", { random: 1 }];

const NOTHING = { movements: [] };

export function ByController({ by, shape = NOTHING, byHand, onSet }: Props) {
  const from: Source | undefined = by && (by.source ?? { controller: by.controller });
  const hand = by && !by.source ? by.controller : undefined;
  const stands = useSound((sound) => (hand === undefined ? 0 : (sound.controllers[hand] ?? 0)));
  const limit = (label: string, which: "low" | "high" | "fade") => (
    <Field
      label={label}
      value={by?.[which]}
      unit={count}
      byHand={byHand}
      disabled={!by}
      onSet={(v) => by && onSet(limited(by, which, v))}
    />
  );
  const sources = sourcesOf(shape, from).filter((source) => !NONE_OF.some((none) => same(none, source)));
  const chosen = sources.findIndex((source) => same(source, from));
  const choose = (source: Source | undefined) => {
    if (source === undefined) return onSet(undefined);
    const kept = { low: 0, high: 127, fade: 0, controller: 1, ...by };
    const byHand = typeof source === "object" && "controller" in source;
    onSet(byHand ? { ...kept, controller: source.controller, source: null } : { ...kept, source });
  };
  return (
    <div className="grid grid-cols-4 gap-3">
      <Choice
        label="Heard by"
        value={String(chosen)}
        options={[{ value: "-1", name: "always" }, ...sources.map((source, n) => ({ value: String(n), name: sourceName(source, shape) }))]}
        onChange={(next) => choose(sources[Number(next)])}
      />
      {limit("From", "low")}
      {limit("To", "high")}
      {limit("Crossing over", "fade")}
      {hand !== undefined && (
        <label className="col-span-4 flex items-center gap-3 text-[12px] text-ink3">
          {controllerName(hand)} stands at
          <input
            type="range"
            min={0}
            max={127}
            value={stands}
            className="grow accent-act"
            aria-label={`Where ${controllerName(hand)} stands`}
            onChange={(event) => player.controller(hand, Number(event.target.value))}
          />
          <span className="num w-8 text-right">{stands}</span>
        </label>
      )}
    </div>
  );
}
