// What is said of all chosen rows of the files at once.
import { useState } from "react";
import { keyName, parseKey } from "../model/keys";
import { type Mended, parseTurn, type Row } from "../model/fileRows";

export function Together({
  rows,
  names,
  onMend,
  onForget,
}: {
  rows: Row[];
  names: string[];
  onMend: (what: Record<number, Mended>) => void;
  onForget: () => void;
}) {
  const [root, setRoot] = useState("");
  const [from, setFrom] = useState("C2");
  const [step, setStep] = useState("1");
  const all = (what: (row: Row, n: number) => Mended) => onMend(Object.fromEntries(rows.map((row, n) => [row.id, what(row, n)])));
  const key = parseKey(root);
  const [first, by] = [parseKey(from), Number(step)];
  const last = first === undefined ? undefined : first + by * (rows.length - 1);
  const fits = last !== undefined && Number.isInteger(by) && by !== 0 && last >= 0 && last <= 127;
  const input = "num rounded border border-line bg-raised px-1 py-0.5";
  return (
    <div
      className="flex flex-wrap items-center gap-x-3 gap-y-1.5 border-t border-line2 bg-chosen px-3 py-1.5 text-[12px]"
      data-part="together"
    >
      <b className="font-semibold">{rows.length} chosen</b>
      <label className="flex items-center gap-1">
        rung{" "}
        <input aria-label="Rung of the chosen" className={`${input} w-12`} value={root} onChange={(event) => setRoot(event.target.value)} />
      </label>
      <button className="button !py-0.5" disabled={key === undefined} onClick={() => all(() => ({ key }))}>
        Set
      </button>
      {names.length > 1 && (
        <label className="flex items-center gap-1">
          layer{" "}
          <select
            aria-label="Layer of the chosen"
            className="rounded border border-line bg-raised"
            value=""
            onChange={(event) => all(() => ({ layer: Number(event.target.value) }))}
          >
            <option value="" disabled>
              –
            </option>
            {names.map((name, n) => (
              <option key={name} value={n}>
                {name}
              </option>
            ))}
          </select>
        </label>
      )}
      <label className="flex items-center gap-1">
        turn{" "}
        <input
          aria-label="Turn of the chosen"
          className={`${input} w-10`}
          placeholder="–"
          onKeyDown={(event) => {
            if (event.key === "Enter") event.currentTarget.blur();
            event.stopPropagation();
          }}
          onBlur={(event) => {
            const turn = parseTurn(event.target.value);
            if (event.target.value !== "" && turn !== undefined) all(() => ({ round_robin: turn }));
            event.target.value = "";
          }}
        />
      </label>
      <span className="flex items-center gap-1">
        deal from{" "}
        <input aria-label="First key" className={`${input} w-12`} value={from} onChange={(event) => setFrom(event.target.value)} /> by{" "}
        <input aria-label="Step in semitones" className={`${input} w-10`} value={step} onChange={(event) => setStep(event.target.value)} />{" "}
        st
      </span>
      <button
        className="button !py-0.5"
        disabled={!fits}
        title={fits ? `In the order of the rows, from ${keyName(first!)} to ${keyName(last)}` : "These keys do not reach for all of them"}
        onClick={() => all((_, n) => ({ key: first! + by * n }))}
      >
        Deal
      </button>
      <div className="grow" />
      <button className="button !py-0.5" onClick={onForget}>
        Put aside
      </button>
    </div>
  );
}
