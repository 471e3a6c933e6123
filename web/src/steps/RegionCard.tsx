// What regions sound on and like; what is set goes to all that are chosen.
import type { InstrumentView } from "../api/client";
import { inWords } from "../model/keys";
import { fitted } from "../model/ranges";
import { type Placed, turnsOf, withSide } from "../model/regions";
import { key } from "../model/units";
import { Field } from "../parts/Field";
import { useMap } from "../state/map";
import { ByController } from "./ByController";
import { giveBack, keepExtents, keepFact } from "./mapFacts";
import { AtOnce, CutInTwo } from "./RegionActs";
import { LIMITS, type RegionNumber, SOUND } from "./regionNumbers";

export function RegionCard({ view, of, first }: { view: InstrumentView; of: Placed[]; first: Placed }) {
  const { withNeighbours, setWithNeighbours, aloneRegions, listenToRegions } = useMap();
  const { region, byHand } = first;
  const strand = view.program.strands.find(({ id }) => id === region.key.strand);
  const set = (number: RegionNumber, value: number) => {
    const { side } = number;
    if (side)
      void keepExtents(
        view.id,
        of.map((one) => ({ of: one, to: withSide(one.extent, side, value) })),
      );
    else keepFact(view.id, of, (what) => `set ${number.label.toLowerCase()} of ${what}`, number.fact, fitted(number, value));
  };
  const field = (number: RegionNumber) => (
    <Field
      key={number.fact}
      label={number.label}
      value={number.of(first)}
      unit={number.unit}
      byHand={byHand.includes(number.fact)}
      onSet={(v) => set(number, v)}
      onAutomatic={() =>
        keepFact(view.id, of, (what) => `give ${number.label.toLowerCase()} of ${what} back to the rule`, number.fact, undefined)
      }
    />
  );
  const turns = turnsOf(first);
  const changed = of.some((one) => one.byHand.length > 0);
  return (
    <div className="card flex flex-col gap-3 p-3" data-part="region">
      <h3 className="flex items-baseline justify-between gap-2">
        <b className="truncate font-semibold">{inWords(view.program.samples[region.sample]?.name ?? "")}</b>
        <span className="text-[12px] whitespace-nowrap text-ink3">
          {of.length > 1 ? `and ${of.length - 1} more` : turns > 1 ? `one of ${turns} in turn` : ""}
        </span>
      </h3>
      <div className="grid grid-cols-4 gap-3">
        {LIMITS.map(field)}
        {SOUND.slice(0, 4).map(field)}
        {SOUND.slice(4).map(field)}
        <Field label="Root" value={region.root_key} unit={key} disabled onSet={() => undefined} />
        <label className="col-span-2 flex items-center gap-2 self-end pb-1.5 text-[12px]">
          <input
            type="checkbox"
            checked={region.to_end}
            onChange={(event) =>
              keepFact(
                view.id,
                of,
                (what) => `let ${what} ${event.target.checked ? "play on" : "stop"}`,
                "region_to_end",
                event.target.checked,
              )
            }
          />
          Plays to its end whatever the key does
        </label>
      </div>
      <ByController
        by={first.controller}
        shape={view.program.shapes.find(({ id }) => id === (region.shape ?? strand?.shape))}
        byHand={byHand.includes("region_controller")}
        onSet={(by) => keepFact(view.id, of, (what) => `choose ${what} by a controller`, "region_controller", by)}
      />
      <div className="flex flex-wrap items-center gap-2">
        {of.length > 1 && <AtOnce view={view} of={of} />}
        <CutInTwo view={view} of={of} first={first} />
        <button
          className={`button ${aloneRegions.length > 0 ? "on" : ""}`}
          aria-pressed={aloneRegions.length > 0}
          title="Only these are heard while keys play, on this page"
          onClick={() => listenToRegions(aloneRegions.length > 0 ? [] : of.map(({ name }) => name))}
        >
          Hear {of.length > 1 ? "these" : "it"} alone
        </button>
        <span className="grow" />
        <button className="button" disabled={!changed} onClick={() => giveBack(view.id, of)}>
          Back to the rule
        </button>
      </div>
      <label className="flex items-center gap-2 text-[12px]">
        <input type="checkbox" checked={withNeighbours} onChange={(event) => setWithNeighbours(event.target.checked)} />A border that is
        dragged takes its neighbour's along
      </label>
    </div>
  );
}
