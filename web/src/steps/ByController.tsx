// The controller that something is heard by, and a hand on it.
import type { Schemas } from "../api/client";
import { controllerName, OFFERED } from "../model/strands";
import { count } from "../model/units";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { player, useSound } from "../sound/player";

type By = Schemas["ByController"];

interface Props {
  by: By | undefined;
  byHand: boolean;
  /** `undefined` for no controller. */
  onSet: (by: By | undefined) => void;
}

/** A limit within 0 to 127 that does not pass the other. */
function limited(by: By, which: "low" | "high" | "fade", value: number): By {
  const step = Math.min(127, Math.max(0, Math.round(value)));
  if (which === "low") return { ...by, low: Math.min(step, by.high) };
  return which === "high" ? { ...by, high: Math.max(step, by.low) } : { ...by, fade: step };
}

export function ByController({ by, byHand, onSet }: Props) {
  const stands = useSound((sound) => (by ? (sound.controllers[by.controller] ?? 0) : 0));
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
  const known = [...new Set([...OFFERED, ...(by ? [by.controller] : [])])];
  return (
    <div className="grid grid-cols-4 gap-3">
      <Choice
        label="Heard by"
        value={by ? String(by.controller) : "none"}
        options={[{ value: "none", name: "no controller" }, ...known.map((n) => ({ value: String(n), name: controllerName(n) }))]}
        onChange={(next) => onSet(next === "none" ? undefined : { low: 0, high: 127, fade: 0, ...by, controller: Number(next) })}
      />
      {limit("From", "low")}
      {limit("To", "high")}
      {limit("Crossing over", "fade")}
      {by && (
        <label className="col-span-4 flex items-center gap-3 text-[12px] text-ink3">
          {controllerName(by.controller)} stands at
          <input
            type="range"
            min={0}
            max={127}
            value={stands}
            className="grow accent-act"
            aria-label={`Where ${controllerName(by.controller)} stands`}
            onChange={(event) => player.controller(by.controller, Number(event.target.value))}
          />
          <span className="num w-8 text-right">{stands}</span>
        </label>
      )}
    </div>
  );
}
