// New takes from old: each is kept as a take of its cell that knows where it came from.
import { useState } from "react";
import { answer, api, type Schemas } from "../api/client";
import { passOf } from "../model/cells";
import { WHOLE } from "../model/effects";
import { takeId } from "../model/regions";
import { percent, semitones, type Unit } from "../model/units";
import { type OnBench, velocityOf } from "../parts/Bench";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { Takes } from "../parts/Takes";
import { usePending } from "../state/pending";
import { useView } from "../state/view";

type Making = Schemas["Making"];

/** Rows of effects that a take can be printed with: none where nothing is on. */
function rowsOf(on: OnBench): Schemas["Bus"][] {
  return on.view.program.buses.filter(({ effects }) => effects.some((effect) => effect.on));
}

/** The strand that plays a take, or will: that of its pass. */
function strandOf({ view, take }: OnBench): number {
  const region = view.program.regions.find(({ sample }) => takeId(view.program.samples[sample]?.source) === take.id);
  return region?.key.strand ?? take.cell.pass;
}
type MadeFrom = Schemas["MadeFrom"];

const MADE_FROM: { value: MadeFrom; name: string }[] = [
  { value: "next_above", name: "the next above" },
  { value: "nearest", name: "the nearest" },
  { value: "in_turn", name: "several in turn" },
];

const milliseconds: Unit = {
  show: (v) => `${Math.round(v)} ms`,
  parse: (t) => {
    const found = /^\s*([\d.,]+)\s*(ms|s)?\s*$/i.exec(t);
    const v = found && Number(found[1]!.replace(",", "."));
    return v == null || !Number.isFinite(v) ? undefined : found![2]?.toLowerCase() === "s" ? v * 1000 : v;
  },
  step: 10,
  fine: 1,
};

export function Make({ on }: { on: OnBench }) {
  const { take, takes, view, cell } = on;
  const [over, setOver] = useState(40);
  const [share, setShare] = useState(100);
  const [from, setFrom] = useState<MadeFrom>("next_above");
  const [furthest, setFurthest] = useState(24);
  const [only, setOnly] = useState(false);
  const [row, setRow] = useState<number>();
  const [withFilter, setWithFilter] = useState(false);
  const say = useView((state) => state.say);
  const [pending, begin] = usePending();
  const pass = passOf(view.plan, take.cell);
  const chosen = new Set(view.takes.filter((t) => t.chosen && t.cell.pass === take.cell.pass).map((t) => `${t.cell.key}/${t.cell.layer}`));
  const empty = (pass?.rungs ?? [])
    .flatMap((key) => pass!.layers.map((layer) => `${key}/${layer.id}`))
    .filter((place) => !chosen.has(place)).length;
  const count = takes.length === 1 ? "this take" : `${takes.length} takes`;
  const make = async (how: Making) => {
    answer(
      await api.POST("/api/instruments/{id}/make", { params: { path: { id: view.id } }, body: { takes: takes.map((t) => t.id), how } }),
    );
    say(`From ${count} new ones are being made; the earlier ones stay on their cells.`);
  };
  const fill = async () => {
    const rule = { from, of: only ? takes.map((t) => t.id) : [], furthest_keys: furthest };
    answer(
      await api.POST("/api/instruments/{id}/passes/{pass}/fill", {
        params: { path: { id: view.id, pass: take.cell.pass } },
        body: rule,
      }),
    );
    say(`Empty places within ${semitones.show(furthest)} of a recording are being made.`);
  };
  const rows = rowsOf(on);
  const chain = rows.find(({ id }) => id === row) ?? rows[0];
  const button = (name: string, how: Making) => (
    <button className="button w-44" disabled={pending} onClick={() => begin(() => make(how))}>
      {name}
    </button>
  );
  return (
    <>
      <section className="card flex flex-col gap-2 p-3" aria-label="New takes from old">
        <p className="text-ink3">A new take is made from {count}, trimmed and cleaned as it is now, and chosen in its place.</p>
        <div className="flex items-end gap-3">
          {button("Bring it in tune", "in_tune")}
          <span className="pb-1 text-ink3">resampled, so that it lies on its root</span>
        </div>
        <div className="flex items-end gap-3">
          {button("Flatten its pitch", { flattened: { share: share / 100 } })}
          <Field label="How much" width="80px" value={share} unit={percent} onSet={(v) => setShare(Math.min(100, Math.max(0, v)))} />
          <span className="pb-1 text-ink3">takes a glide or vibrato out, wholly or partly</span>
        </div>
        <div className="flex items-end gap-3">
          {button("Reverse it", "reversed")}
          <span className="pb-1 text-ink3">its last frame first</span>
        </div>
        <div className="flex items-end gap-3">
          {button("Make a swell", { swell: { crossfade_ms: over } })}
          <Field label="Crossfade" width="80px" value={over} unit={milliseconds} onSet={(v) => setOver(Math.min(5000, Math.max(1, v)))} />
          <span className="pb-1 text-ink3">reversed, then forward</span>
        </div>
        {chain && (
          <div className="flex items-end gap-3">
            {button("Print effects into it", {
              printed: { strand: strandOf(on), bus: chain.id, with_filter: withFilter, strike: velocityOf(on) },
            })}
            <div className="w-40">
              <Choice
                label="Row"
                value={String(chain.id)}
                options={rows.map(({ id, name }) => ({ value: String(id), name: id === WHOLE ? "the whole" : name }))}
                onChange={(next) => setRow(Number(next))}
              />
            </div>
            <label className="flex items-center gap-2 pb-1.5 text-[12px]">
              <input type="checkbox" checked={withFilter} onChange={(event) => setWithFilter(event.target.checked)} />
              and the filter; both stay on for all else
            </label>
          </div>
        )}
        <div className="flex items-end gap-3">
          <button className="button w-44" disabled={empty === 0 || pending} onClick={() => begin(fill)}>
            Fill {empty} empty places
          </button>
          <div className="w-40">
            <Choice label="Re-pitched from" value={from} options={MADE_FROM} onChange={setFrom} />
          </div>
          <Field
            label="Reaches"
            width="80px"
            value={furthest}
            unit={semitones}
            onSet={(v) => setFurthest(Math.min(127, Math.max(1, Math.round(v))))}
          />
          <label className="flex items-center gap-2 pb-1.5 text-[12px]">
            <input type="checkbox" checked={only} onChange={(event) => setOnly(event.target.checked)} />
            from {count} alone
          </label>
        </div>
      </section>
      <Takes view={view} cell={cell} />
    </>
  );
}
