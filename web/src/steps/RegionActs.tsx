// What is done to regions in one act: cut in two, and a number of many.
import { Fragment, useState } from "react";
import { answer, api, type InstrumentView, type Schemas } from "../api/client";
import type { Placed } from "../model/regions";
import { count, key } from "../model/units";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { Popup } from "../parts/Popup";
import { act } from "../state/edits";
import { sayError } from "../state/view";
import { LIMITS, type RegionNumber, setAtOnce, SOUND } from "./regionNumbers";

/** Two of each, which meet at a key or a strike. */
export function CutInTwo({ view, of, first }: { view: InstrumentView; of: Placed[]; first: Placed }) {
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
  const step = (value: number) => Math.min(127, Math.max(1, Math.round(value)));
  const ways = [
    { label: "The upper begins at", name: "Cut the keys", value: here.key, unit: key, set: setAtKey, at: { key: here.key } },
    {
      label: "The harder begins at",
      name: "Cut the strikes",
      value: here.strike,
      unit: count,
      set: setAtStrike,
      at: { strike: here.strike },
    },
  ];
  return (
    <Popup button="Cut in two…" title="Cut in two">
      {(close) => (
        <div className="grid grid-cols-2 items-end gap-3">
          {ways.map(({ label, name, value, unit, set, at }) => (
            <Fragment key={name}>
              <Field label={label} value={value} unit={unit} onSet={(v) => set(step(v))} />
              <button
                className="button act"
                onClick={() => {
                  close();
                  cut(at);
                }}
              >
                {name}
              </button>
            </Fragment>
          ))}
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
export function AtOnce({ view, of }: { view: InstrumentView; of: Placed[] }) {
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
