// Slow movements of a strand.
import type { Schemas } from "../api/client";
import { freshPart, type Movement as Said, movementDriven, slowMovements, WAVES } from "../model/driving";
import { hertz, share, time, type Unit } from "../model/units";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { player } from "../sound/player";
import { Follows } from "./Follows";
import { drive, hasRoom, removePart, sayMovement, sayParts, type Shaped, shapesOf, toPanel } from "./routes";

const FIRST: Said = {
  wave: "sine",
  rate: { hz: 5 },
  phase: 0,
  delay_ms: 0,
  fade_in_ms: 0,
  per_voice: true,
  once: false,
};

const quarters: Unit = {
  show: (v) => `${Math.round(v * 100) / 100} beats`,
  parse: (text) => {
    const value = Number.parseFloat(text.replace(",", "."));
    return Number.isFinite(value) ? value : undefined;
  },
  step: 0.5,
  fine: 0.25,
};

const within = (value: number, low: number, high: number) => Math.min(high, Math.max(low, value));

export function Movements({ shaped }: { shaped: Shaped }) {
  const { shape, whose } = shaped;
  const add = () => sayParts(shaped, `add a slow movement to ${whose}`, [{ kind: "movement", number: freshPart(), value: FIRST }]);
  return (
    <section className="card flex flex-col gap-3 p-3" aria-label="Slow movements">
      <h3>
        <b className="font-semibold">Slow movements</b>{" "}
        <span className="text-[12px] text-ink3">what goes up and down by itself; level, brightness and pitch may follow it</span>
      </h3>
      {slowMovements(shape).map((movement, n) => (
        <One key={movement.id} shaped={shaped} movement={movement} name={`slow movement ${n + 1}`} />
      ))}
      <button
        className="self-start text-[12.5px] text-ink2 hover:underline disabled:opacity-50"
        disabled={!hasRoom(shape, "movement")}
        onClick={add}
      >
        + a slow movement
      </button>
    </section>
  );
}

function One({ shaped, movement, name }: { shaped: Shaped; movement: Schemas["Movement"]; name: string }) {
  const of = `${name} of ${shaped.whose}`;
  const say = (label: string, changed: Partial<Said>) => sayMovement(shaped, movement, label, changed);
  const inHz = "hz" in movement.rate;
  return (
    <div className="flex flex-col gap-2 border-t border-line2 pt-2" role="group" aria-label={name}>
      <div className="flex flex-wrap items-end gap-2">
        <span className="w-24 pb-1.5 text-[12px] whitespace-nowrap first-letter:uppercase">{name}</span>
        <div className="w-28">
          <Choice label="Form" value={movement.wave} options={WAVES} onChange={(wave) => say(`set the form of ${of}`, { wave })} />
        </div>
        <div className="w-20">
          <Choice
            label="Counted in"
            value={inHz ? "hz" : "quarters"}
            options={[
              { value: "hz", name: "Hz" },
              { value: "quarters", name: "beats" },
            ]}
            onChange={(next) =>
              say(`count ${of} in ${next === "hz" ? "Hz" : "beats"}`, { rate: next === "hz" ? { hz: 5 } : { quarters: 1 } })
            }
          />
        </div>
        {"hz" in movement.rate ? (
          <Field
            label="Rate"
            width="76px"
            value={movement.rate.hz}
            unit={hertz}
            onLive={(hz) => player.shape(shapesOf(shaped), "movement_hz", within(hz, 0.01, 40), movement.id)}
            onSet={(hz) => say(`set the rate of ${of}`, { rate: { hz: within(hz, 0.01, 40) } })}
            onDrive={hasRoom(shaped.shape, "route") ? () => drive(shaped, movementDriven(movement.id)[0]!) : undefined}
            onControl={
              hasRoom(shaped.shape, "route") && "strand" in shaped.of[0]!.target
                ? () => toPanel(shaped, movementDriven(movement.id)[0]!)
                : undefined
            }
          />
        ) : (
          <Field
            label="A round in"
            width="84px"
            value={movement.rate.quarters}
            unit={quarters}
            onSet={(value) => say(`set the rate of ${of}`, { rate: { quarters: within(value, 1 / 16, 64) } })}
          />
        )}
        <Field
          label="Waits"
          width="72px"
          value={movement.delay_ms}
          unit={time}
          onSet={(ms) => say(`let ${of} wait`, { delay_ms: within(ms, 0, 20_000) })}
        />
        <Field
          label="Fades in"
          width="72px"
          value={movement.fade_in_ms}
          unit={time}
          onLive={(ms) => player.shape(shapesOf(shaped), "movement_fade_ms", within(ms, 0, 20_000), movement.id)}
          onSet={(ms) => say(`fade ${of} in`, { fade_in_ms: within(ms, 0, 20_000) })}
        />
        <Field
          label="Begins at"
          width="68px"
          value={movement.phase}
          unit={share}
          onSet={(phase) => say(`set where ${of} begins`, { phase: within(phase, 0, 1) })}
        />
        <button
          className="ml-auto rounded px-1.5 pb-1.5 text-ink3 hover:text-ink"
          aria-label={`Remove ${name}`}
          onClick={() => removePart(shaped, "movement", movement.id, `remove ${of}`)}
        >
          ×
        </button>
      </div>
      <div className="flex gap-4 text-[12.5px]">
        <label className="flex items-center gap-1">
          <input
            type="checkbox"
            checked={movement.per_voice}
            onChange={(event) =>
              say(`let ${of} begin ${event.target.checked ? "with each key" : "for all together"}`, { per_voice: event.target.checked })
            }
          />
          each key has its own
        </label>
        <label className="flex items-center gap-1">
          <input
            type="checkbox"
            checked={movement.once}
            onChange={(event) => say(`let ${of} go ${event.target.checked ? "once" : "for ever"}`, { once: event.target.checked })}
          />
          once
        </label>
      </div>
      <Follows shaped={shaped} driven={movementDriven(movement.id)} />
    </div>
  );
}
