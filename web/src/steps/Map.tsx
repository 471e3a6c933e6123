// Map: how takes are laid over keys and strikes, by rule and by hand.
import type { InstrumentView } from "../api/client";
import { change } from "../state/edits";
import { inWords } from "../model/keys";
import { chosenRegions, placedRegions, type Placed, type Side, withSide } from "../model/regions";
import { cents, count, decibels, key, semitones, share } from "../model/units";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { useMap } from "../state/map";
import { sayError, useView } from "../state/view";
import { FACT_OF, giveBack, keepExtents, keepFact } from "./mapFacts";
import { turnsOf } from "./MapBoard";

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

export function MapBench({ view }: { view: InstrumentView }) {
  const { focus, chosen: cells } = useView();
  const { chosen } = useMap();
  const all = placedRegions(view);
  const shown = chosenRegions(all, chosen, cells, focus);
  return (
    <>
      <div>
        <h2 className="text-[17px] font-semibold">Strands</h2>
        <p className="text-[11.5px] text-ink3">sets of regions that sound together</p>
      </div>
      <Strands view={view} all={all} />
      <Rule view={view} />
      {shown[0] ? (
        <OneRegion view={view} of={shown} first={shown[0]} />
      ) : (
        <p className="text-ink3">Click a region to see what it sounds on.</p>
      )}
    </>
  );
}

/** The strands; the one that is chosen can be taken hold of on the board. */
function Strands({ view, all }: { view: InstrumentView; all: Placed[] }) {
  const { strand: wanted, setStrand } = useMap();
  const { strands } = view.program;
  const strand = strands.some((s) => s.id === wanted) ? wanted : strands[0]?.id;
  return (
    <table className="card w-full overflow-hidden">
      <thead className="text-left text-ink3">
        <tr>
          <th className="px-3 py-1.5 font-normal">strand</th>
          <th className="font-normal">sounds on</th>
          <th className="px-3 text-right font-normal">regions</th>
        </tr>
      </thead>
      <tbody>
        {strands.map(({ id, name, on }) => (
          <tr key={id} className={`border-t border-line2 ${id === strand ? "bg-chosen" : ""}`}>
            <td className="px-3 py-1.5 font-semibold">
              <label className="flex items-center gap-2">
                <input type="radio" name="strand" checked={id === strand} onChange={() => setStrand(id)} />
                {name}
              </label>
            </td>
            <td>{"key_up" in on ? "key up" : "key down"}</td>
            <td className="num px-3 text-right">{all.filter((of) => of.region.key.strand === id).length}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** What the rule makes of the takes, as they come and go. */
function Rule({ view }: { view: InstrumentView }) {
  const { map } = view;
  const set = (fact: keyof Settings, value: number | string, label: string) =>
    void change(view.id, label, [{ fact, value }]).catch(sayError);
  const keys = (fact: "furthest_stretch_keys" | "below_keys" | "above_keys", name: string, label: string) => (
    <Field label={name} value={map[fact]} unit={semitones} onSet={(v) => set(fact, Math.min(127, Math.max(0, Math.round(v))), label)} />
  );
  const layered = view.plan.passes.some((pass) => pass.layers.length > 1);
  const inTurn = view.program.regions.some(({ when }) => when.turn !== "always");
  return (
    <div className="card p-3" data-part="rule">
      <h3 className="mb-2 font-semibold">By rule</h3>
      <div className="mb-2 grid grid-cols-2 gap-3">
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
    </div>
  );
}

/** Steps of velocity. */
const strikes = { ...count, show: (v: number) => (v === 0 ? "no strikes" : `${v} ${v === 1 ? "strike" : "strikes"}`) };

/** What a region sounds on and like; what is set goes to all that are chosen. */
function OneRegion({ view, of, first }: { view: InstrumentView; of: Placed[]; first: Placed }) {
  const { withNeighbours, setWithNeighbours } = useMap();
  const { region, extent, byHand, take } = first;
  const side = (name: Side, label: string, unit: typeof key) => (
    <Field
      label={label}
      value={extent[name]}
      unit={unit}
      byHand={byHand.includes(FACT_OF[name])}
      onSet={(v) =>
        void keepExtents(
          view.id,
          of.map((one) => ({ of: one, to: withSide(one.extent, name, v) })),
        )
      }
      onAutomatic={() => keepFact(view.id, of, (what) => `give a limit of ${what} back to the rule`, FACT_OF[name], undefined)}
    />
  );
  const turns = turnsOf(first);
  const changed = of.some((one) => one.byHand.length > 0);
  return (
    <div className="card p-3" data-part="region">
      <h3 className="mb-2 flex items-baseline justify-between gap-2">
        <b className="truncate font-semibold">{inWords(view.program.samples[region.sample]?.name ?? "")}</b>
        <span className="text-[12px] whitespace-nowrap text-ink3">
          {of.length > 1 ? `and ${of.length - 1} more` : turns > 1 ? `one of ${turns} in turn` : ""}
        </span>
      </h3>
      <div className="grid grid-cols-4 gap-3">
        {side("lowKey", "Lowest key", key)}
        {side("highKey", "Highest key", key)}
        {side("lowStrike", "Softest strike", count)}
        {side("highStrike", "Hardest strike", count)}
        <Field
          label="Level"
          value={region.gain_db - (take?.treatment?.gain_db ?? 0)}
          unit={decibels}
          byHand={byHand.includes("region_gain_db")}
          onSet={(v) => keepFact(view.id, of, (what) => `set the level of ${what}`, "region_gain_db", Math.min(48, Math.max(-96, v)))}
          onAutomatic={() => keepFact(view.id, of, (what) => `give the level of ${what} back to the rule`, "region_gain_db", undefined)}
        />
        <Field
          label="Tuned by"
          value={region.tune_cents - (take?.treatment?.tune_cents ?? 0)}
          unit={cents}
          byHand={byHand.includes("region_tune_cents")}
          onSet={(v) => keepFact(view.id, of, (what) => `tune ${what}`, "region_tune_cents", Math.min(4800, Math.max(-4800, v)))}
          onAutomatic={() => keepFact(view.id, of, (what) => `give the tuning of ${what} back to the rule`, "region_tune_cents", undefined)}
        />
        <Field
          label="Follows keys"
          value={region.key_follow}
          unit={share}
          byHand={byHand.includes("key_follow")}
          onSet={(v) =>
            keepFact(view.id, of, (what) => `set how far the pitch of ${what} follows the key`, "key_follow", Math.min(2, Math.max(-2, v)))
          }
          onAutomatic={() => keepFact(view.id, of, (what) => `give the pitch of ${what} back to the rule`, "key_follow", undefined)}
        />
        <Field label="Root" value={region.root_key} unit={key} disabled onSet={() => undefined} />
      </div>
      <div className="mt-3 flex items-center justify-between gap-3">
        <label className="flex items-center gap-2 text-[12px]">
          <input type="checkbox" checked={withNeighbours} onChange={(event) => setWithNeighbours(event.target.checked)} />A border that is
          dragged takes its neighbour's along
        </label>
        <button className="button" disabled={!changed} onClick={() => giveBack(view.id, of)}>
          Back to the rule
        </button>
      </div>
    </div>
  );
}
