// One strand: what it sounds on and what it sounds like.
import type { Fact, InstrumentView, Schemas } from "../api/client";
import { fitted } from "../model/ranges";
import { type Event, EVENTS, eventOf, type PlacedStrand, withEvent } from "../model/strands";
import { LOUDNESS_DRIVEN, PITCH_DRIVEN } from "../model/driving";
import { ROUTES_OF_WHOLE } from "../model/effects";
import { count, decibels, key, type Unit } from "../model/units";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { Written } from "../parts/Written";
import { ByController } from "./ByController";
import { ownerOf, toPanel } from "./routes";
import { CUT_FADE, FADES, LIMITS, sayOf, SOUND, type StrandNumber } from "./strandFacts";

interface Props {
  view: InstrumentView;
  of: PlacedStrand;
  strands: PlacedStrand[];
}

export function StrandCard({ view, of, strands }: Props) {
  const { strand, said } = of;
  const say = (fact: Fact, value: unknown, label: string) => sayOf(view.id, of, fact, value, label);
  const chooseBy = (by: Schemas["ByKey"] | undefined) =>
    say("strand_by_key", by, by ? `choose ${strand.name} by a key` : `choose ${strand.name} by no key`);
  const owner = ownerOf(view, of);
  /** Makes a control of a number that can be driven while it plays. */
  const controlFor = (fact: Fact): (() => void) | undefined => {
    if (!owner) return undefined;
    const shaped = { view, of: [owner], strand: of, shape: owner.shape, whose: strand.name };
    if (fact === "strand_gain_db") {
      const driven = { to: { strand_level: strand.id }, name: "level", unit: decibels, most: 96, first: 12 };
      return () => toPanel({ ...shaped, of: [{ ...owner, own: ROUTES_OF_WHOLE }] }, driven);
    }
    const driven = fact === "strand_pan" ? LOUDNESS_DRIVEN[1] : fact === "strand_tune_cents" ? PITCH_DRIVEN[0] : undefined;
    return driven && (() => toPanel(shaped, driven));
  };
  const number = (spec: StrandNumber) => (
    <Field
      key={spec.fact}
      label={spec.label}
      value={spec.of(of)}
      unit={spec.unit}
      byHand={said.by_hand.includes(spec.fact)}
      onSet={(v) => say(spec.fact, fitted(spec, v), `set ${spec.label.toLowerCase()} of ${strand.name}`)}
      onControl={controlFor(spec.fact)}
      onAutomatic={() => say(spec.fact, undefined, `give ${spec.label.toLowerCase()} of ${strand.name} back`)}
    />
  );
  return (
    <div className="card flex flex-col gap-3 p-3" data-part="strand">
      <div className="grid grid-cols-2 gap-3">
        <Written label="Name" value={strand.name} onKeep={(name) => void say("strand_name", name, `call a strand ${name}`)} />
        <Choice
          label="Sounds on"
          value={eventOf(strand.on)}
          options={EVENTS}
          onChange={(event: Event) => say("strand_on", withEvent(event, strand.on), `change what ${strand.name} sounds on`)}
        />
      </div>
      {"key_up" in strand.on && <KeyUp on={strand.on} onSet={(on) => say("strand_on", on, `change how ${strand.name} falls`)} />}
      <div className="grid grid-cols-4 gap-3">
        {SOUND.map(number)}
        {LIMITS.map(number)}
        {FADES.map(number)}
      </div>
      <ByController
        by={said.controller ?? undefined}
        shape={view.program.shapes.find(({ id }) => id === strand.shape)}
        byHand={said.by_hand.includes("strand_controller")}
        onSet={(by) => say("strand_controller", by, `choose ${strand.name} by a controller`)}
      />
      <div className="grid grid-cols-4 gap-3">
        <Field
          label="Chosen by key"
          value={said.by_key?.key}
          unit={key}
          byHand={said.by_hand.includes("strand_by_key")}
          onSet={(v) => chooseBy({ key: Math.min(127, Math.max(0, Math.round(v))), held: said.by_key?.held ?? false })}
          onAutomatic={() => chooseBy(undefined)}
        />
        <Choice
          label="Cut off by"
          value={String(said.cut_by ?? "none")}
          options={[
            { value: "none", name: "nothing" },
            ...strands.map((other) => ({
              value: String(other.strand.id),
              name: other.strand.id === strand.id ? "itself" : other.strand.name,
            })),
          ]}
          onChange={(by) => say("strand_cut_by", by === "none" ? undefined : Number(by), `change what cuts ${strand.name} off`)}
        />
        {said.cut_by != null && number(CUT_FADE)}
        <label className="col-span-2 flex items-center gap-2 self-end pb-1.5 text-[12px]">
          <input
            type="checkbox"
            checked={strand.when.turn !== "always" || said.by_hand.includes("strand_takes_turns")}
            onChange={(event) => say("strand_takes_turns", event.target.checked ? true : undefined, `let ${strand.name} take turns`)}
          />
          Takes turns with other strands
        </label>
      </div>
      {said.by_key && (
        <label className="flex items-center gap-2 text-[12px]">
          <input
            type="checkbox"
            checked={said.by_key.held}
            onChange={(event) => chooseBy({ ...said.by_key!, held: event.target.checked })}
          />
          Only while that key is down
        </label>
      )}
      {said.copy_of != null && (
        <div className="flex items-center justify-between gap-3 border-t border-line2 pt-3 text-[12px] text-ink3">
          <span>
            A copy of {strands.find((other) => other.strand.id === said.copy_of)?.strand.name ?? "a strand"}: it plays the same regions.
          </span>
          <button className="button" onClick={() => say("strand_copy_of", undefined, `remove ${strand.name}`)}>
            Remove this copy
          </button>
        </div>
      )}
    </div>
  );
}

/** How a sound of keys that come up falls. */
function KeyUp({ on, onSet }: { on: Extract<Schemas["On"], { key_up: unknown }>; onSet: (on: Schemas["On"]) => void }) {
  const { fall_db_per_s, pedal_holds } = on.key_up;
  return (
    <div className="grid grid-cols-2 gap-3">
      <Field
        label="Softer for each second held"
        value={fall_db_per_s}
        unit={falls}
        onSet={(v) => onSet({ key_up: { pedal_holds, fall_db_per_s: Math.min(96, Math.max(0, v)) } })}
      />
      <label className="flex items-center gap-2 self-end pb-1.5 text-[12px]">
        <input
          type="checkbox"
          checked={pedal_holds}
          onChange={(event) => onSet({ key_up: { pedal_holds: event.target.checked, fall_db_per_s } })}
        />
        The pedal holds it back
      </label>
    </div>
  );
}

const falls: Unit = { ...count, show: (v) => `${v} dB`, step: 1, fine: 0.1 };
