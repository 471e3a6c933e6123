// What regions sound on and like; what is set goes to all that are chosen.
import { useState } from "react";
import { answer, api, type InstrumentView, type Schemas } from "../api/client";
import { inWords } from "../model/keys";
import { type Placed, turnsOf, withSide } from "../model/regions";
import { count, key } from "../model/units";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { Popup } from "../parts/Popup";
import { act } from "../state/edits";
import { useMap } from "../state/map";
import { sayError } from "../state/view";
import { ByController } from "./ByController";
import { giveBack, keepExtents, keepFact } from "./mapFacts";
import { fitted, LIMITS, type RegionNumber, setAtOnce, SOUND } from "./regionNumbers";

export function RegionCard({ view, of, first }: { view: InstrumentView; of: Placed[]; first: Placed }) {
  const { withNeighbours, setWithNeighbours, aloneRegions, listenToRegions } = useMap();
  const { region, byHand } = first;
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

/** Two of each, which meet at a key or a strike. */
function CutInTwo({ view, of, first }: { view: InstrumentView; of: Placed[]; first: Placed }) {
  const { lowKey, highKey, lowStrike, highStrike } = first.extent;
  const [atKey, setAtKey] = useState<number>();
  const [atStrike, setAtStrike] = useState<number>();
  const here = { key: atKey ?? Math.ceil((lowKey + highKey + 1) / 2), strike: atStrike ?? Math.ceil((lowStrike + highStrike + 1) / 2) };
  const cut = (at: Schemas["CutAt"]) => {
    const body = { regions: of.map(({ name }) => name), at };
    void act(view.id, async () =>
      answer(await api.POST("/api/instruments/{id}/regions/split", { params: { path: { id: view.id } }, body })),
    ).catch(sayError);
  };
  return (
    <Popup button="Cut in two…" title="Cut in two">
      {(close) => (
        <div className="grid grid-cols-2 items-end gap-3">
          <Field label="The upper begins at" value={here.key} unit={key} onSet={(v) => setAtKey(Math.round(v))} />
          <button
            className="button act"
            onClick={() => {
              close();
              cut({ key: here.key });
            }}
          >
            Cut the keys
          </button>
          <Field label="The harder begins at" value={here.strike} unit={count} onSet={(v) => setAtStrike(Math.round(v))} />
          <button
            className="button act"
            onClick={() => {
              close();
              cut({ strike: here.strike });
            }}
          >
            Cut the strikes
          </button>
        </div>
      )}
    </Popup>
  );
}

type How = "by" | "along" | "alternate" | "scatter" | "mirror";

const HOWS: { value: How; name: string; first?: string; second?: string }[] = [
  { value: "by", name: "each by as much", first: "By" },
  { value: "along", name: "from … to, along the ladder", first: "Lowest rung", second: "Highest rung" },
  { value: "alternate", name: "rung by rung to either side", first: "By" },
  { value: "scatter", name: "scattered", first: "At most by" },
  { value: "mirror", name: "the other way round" },
];

function wished(how: How, first: number, second: number): Schemas["AtOnce"] {
  switch (how) {
    case "by":
      return { by: first };
    case "along":
      return { along: { from: first, to: second } };
    case "alternate":
      return { alternate: first };
    case "scatter":
      return { scatter: { most: first, seed: Math.floor(Math.random() * 2 ** 32) } };
    case "mirror":
      return "mirror";
  }
}

/** A number of all that are chosen, in one act. */
function AtOnce({ view, of }: { view: InstrumentView; of: Placed[] }) {
  const numbers = [...SOUND, ...LIMITS];
  const [fact, setFact] = useState<string>("region_pan");
  const [how, setHow] = useState<How>("alternate");
  const [first, setFirst] = useState(0.3);
  const [second, setSecond] = useState(0);
  const number = numbers.find((one) => one.fact === fact) ?? SOUND[0]!;
  const spec = HOWS.find(({ value }) => value === how)!;
  return (
    <Popup button={`Set ${of.length} at once…`} title={`Set ${of.length === 1 ? "a region" : `${of.length} regions`} at once`}>
      {(close) => (
        <>
          <div className="grid grid-cols-2 gap-3">
            <Choice
              label="What"
              value={fact}
              options={numbers.map((one) => ({ value: one.fact, name: one.label.toLowerCase() }))}
              onChange={(next) => {
                setFact(next);
                setFirst(0);
                setSecond(0);
              }}
            />
            <Choice label="How" value={how} options={HOWS} onChange={setHow} />
            {spec.first && <Field label={spec.first} value={first} unit={unitOf(number, how)} onSet={setFirst} />}
            {spec.second && <Field label={spec.second} value={second} unit={unitOf(number, how)} onSet={setSecond} />}
          </div>
          <button
            className="button act mt-3"
            onClick={() => {
              close();
              setAtOnce(
                view.id,
                of,
                number,
                wished(how, first, second),
                `set ${number.label.toLowerCase()} of ${of.length} regions ${spec.name}`,
              );
            }}
          >
            Set
          </button>
        </>
      )}
    </Popup>
  );
}

/** A difference of keys is a number of them. */
function unitOf(number: RegionNumber, how: How) {
  return number.unit === key && how !== "along" ? count : number.unit;
}
