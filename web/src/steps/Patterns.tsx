// How the instrument is made, kept as a pattern; and a kept one laid under these recordings.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type InstrumentView, type Schemas } from "../api/client";
import { withOne } from "../model/sets";
import { counted } from "../model/units";
import { Choice } from "../parts/Choice";
import { Ticks } from "../parts/Ticks";
import { act } from "../state/edits";
import { usePending } from "../state/pending";
import { fitQuery, patternsQuery } from "../state/queries";
import { useView } from "../state/view";

type Share = Schemas["PatternShare"];

const SHARES: { value: Share; name: string }[] = [
  { value: "map", name: "Map" },
  { value: "strands", name: "Strands and shapes" },
  { value: "effects", name: "Effects" },
  { value: "panel", name: "Panel" },
];

export function Patterns({ view }: { view: InstrumentView }) {
  const [name, setName] = useState("");
  const [wanted, setWanted] = useState<string | undefined>();
  const say = useView((state) => state.say);
  const queries = useQueryClient();
  const patterns = useQuery(patternsQuery).data ?? [];
  const [pending, begin] = usePending();
  const pattern = patterns.find(({ id }) => String(id) === wanted);
  const read = () => queries.invalidateQueries({ queryKey: ["patterns"] });
  const keep = async () => {
    answer(await api.POST("/api/patterns", { body: { name: name.trim() || view.name, instrument: view.id } }));
    await read();
    setName("");
    say("Kept as a pattern: a new instrument can begin with it, and it can be laid under other recordings.");
  };
  const forget = async () => {
    if (!pattern) return;
    answer(await api.DELETE("/api/patterns/{id}", { params: { path: { id: pattern.id } } }));
    await read();
    setWanted(undefined);
  };
  return (
    <section className="card p-3" aria-label="Pattern">
      <h2 className="font-semibold">Pattern</h2>
      <p className="mb-2 text-[12px] text-ink3">
        How an instrument is made, without its recordings: plan, map, strands with their shapes, effects and panel.
      </p>
      <div className="flex flex-wrap items-end gap-3">
        <label className="w-44">
          <span className="field-label">Name of the pattern</span>
          <input
            className="written"
            value={name}
            placeholder={view.name}
            maxLength={120}
            onChange={(event) => setName(event.target.value)}
            onKeyDown={(event) => event.stopPropagation()}
          />
        </label>
        <button className="button" disabled={pending} onClick={() => begin(keep)}>
          Keep as a pattern
        </button>
        {patterns.length > 0 && (
          <div className="w-56">
            <Choice
              label="Lay a pattern under these recordings"
              value={wanted ?? ""}
              onChange={setWanted}
              options={patterns.map((of) => ({ value: String(of.id), name: of.name }))}
            />
          </div>
        )}
        {pattern && (
          <button className="button" disabled={pending} title="What it was laid under stays as it is" onClick={() => begin(forget)}>
            Forget it
          </button>
        )}
      </div>
      {pattern && <Laying key={pattern.id} view={view} pattern={pattern} />}
    </section>
  );
}

function Laying({ view, pattern }: { view: InstrumentView; pattern: Schemas["PatternView"] }) {
  const [shares, setShares] = useState<ReadonlySet<Share>>(new Set(pattern.shares));
  const say = useView((state) => state.say);
  const [pending, begin] = usePending();
  const wish = [...shares];
  const fit = useQuery(fitQuery(view, pattern.id, wish));
  if (pattern.shares.length === 0)
    return <p className="mt-2 text-ink2">It has a plan alone, which a new instrument can begin with: nothing of it can be laid here.</p>;
  const there = SHARES.filter(({ value }) => pattern.shares.includes(value));
  const lay = () =>
    act(view.id, async () => {
      const path = { id: view.id, pattern: pattern.id };
      const laid = answer(await api.POST("/api/instruments/{id}/patterns/{pattern}", { params: { path }, body: { shares: wish } }));
      say(`${counted(laid.changes, "setting")} of “${pattern.name}” laid; Undo goes back.`);
    });
  const { changes = 0, fits_nothing = [], nothing_under = [] } = fit.data ?? {};
  return (
    <div className="mt-3 border-t border-line2 pt-2" data-part="laying">
      <div className="flex items-end gap-3">
        <div className="grow">
          <Ticks
            label="What of it"
            all={there}
            isOn={(share) => shares.has(share)}
            onTick={(share, isOn) => setShares(withOne(shares, share, isOn))}
          />
        </div>
        <button className="button act" disabled={pending || changes === 0} onClick={() => begin(lay)}>
          Lay it under
        </button>
      </div>
      {fit.isError && <p className="mt-1 text-mark">{fit.error.message}</p>}
      {fit.data && (
        <>
          <p className="mt-2 text-ink2">
            {changes === 0
              ? "Nothing would change."
              : `${counted(changes, "setting")} would change; what was set here of the same gives way.`}{" "}
            {fits_nothing.length === 0 && "All of it fits."}
          </p>
          {fits_nothing.length > 0 && (
            <>
              <h3 className="field-label mt-2">What fits nothing</h3>
              <ul className="list-disc pl-5">
                {fits_nothing.map((sentence) => (
                  <li key={sentence}>{sentence}</li>
                ))}
              </ul>
            </>
          )}
          {nothing_under.length > 0 && (
            <p className="mt-1 text-ink2">Nothing is laid under {nothing_under.join(", ")}: that stays as it is.</p>
          )}
        </>
      )}
    </div>
  );
}
