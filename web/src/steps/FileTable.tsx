// The files that wait, a row each: what their names tell, what is heard, and what was mended, for one row or for many.
import { type KeyboardEvent, type MouseEvent, useState } from "react";
import { inWords, keyName, parseKey } from "../model/keys";
import { centsShort } from "../model/units";
import { player } from "../sound/player";
import { sayError } from "../state/view";
import { Together } from "./FilesTogether";
import { type Mended, parseTurn, type Place, placeOf, type Row } from "../model/fileRows";

interface Props {
  instrument: number;
  rows: Row[];
  layers: string[];
  mended: Record<number, Mended>;
  onMend: (what: Record<number, Mended>) => void;
  onForget: (rows: Row[]) => void;
}

const HEADS = ["file", "rung", "layer", "turn", "key up", "heard"];

export function FileTable({ instrument, rows, layers, mended, onMend, onForget }: Props) {
  const [chosen, setChosen] = useState<ReadonlySet<number>>(new Set());
  const [at, setAt] = useState(0);
  const names = layers.length > 0 ? layers : ["all"];
  const of = rows.filter((row) => chosen.has(row.id));
  const choose = (n: number, event: { shiftKey: boolean; ctrlKey: boolean; metaKey: boolean }) => {
    const row = rows[n];
    if (!row) return;
    const next = new Set(event.shiftKey || event.ctrlKey || event.metaKey ? chosen : []);
    if (event.shiftKey) for (const between of rows.slice(Math.min(at, n), Math.max(at, n) + 1)) next.add(between.id);
    else if (next.has(row.id)) next.delete(row.id);
    else next.add(row.id);
    setChosen(next);
    setAt(n);
  };
  const hear = (row: Row | undefined) => {
    if (!row) return;
    const right = row.right ? `?right=${row.right.id}` : "";
    void player
      .hear({ url: `/api/instruments/${instrument}/files/${row.id}/audio${right}`, rate: row.rate_hz, channels: row.channels })
      .catch(sayError);
  };
  const onKeyDown = (event: KeyboardEvent<HTMLTableElement>) => {
    const step = event.key === "ArrowDown" ? 1 : event.key === "ArrowUp" ? -1 : 0;
    const next = Math.min(rows.length - 1, Math.max(0, at + step));
    if (step !== 0) {
      choose(next, { shiftKey: event.shiftKey, ctrlKey: false, metaKey: false });
      event.currentTarget.querySelector<HTMLElement>(`[data-row="${next}"]`)?.focus();
    } else if (event.key === " ") hear(rows[at]);
    else if (event.key === "a" && (event.ctrlKey || event.metaKey)) setChosen(new Set(rows.map((row) => row.id)));
    else if (event.key === "Escape") setChosen(new Set());
    else return;
    event.preventDefault();
    event.stopPropagation();
  };
  return (
    <>
      <div className="max-h-[300px] overflow-auto">
        <table className="w-full text-[12px]" role="grid" aria-multiselectable onKeyDown={onKeyDown}>
          <thead className="sticky top-0 bg-raised text-left text-ink3">
            <tr>
              {HEADS.map((head) => (
                <th key={head} className="font-normal first:px-3">
                  {head}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map((row, n) => (
              <FileRow
                key={row.id}
                row={row}
                n={n}
                place={placeOf(row, mended[row.id])}
                byHand={mended[row.id]?.key !== undefined}
                names={names}
                chosen={chosen.has(row.id)}
                focusable={n === at}
                onChoose={(event) => choose(n, event)}
                onHear={() => {
                  setAt(n);
                  hear(row);
                }}
                onMend={(what) => onMend({ [row.id]: what })}
              />
            ))}
          </tbody>
        </table>
      </div>
      {of.length > 0 ? (
        <Together
          rows={of}
          names={names}
          onMend={onMend}
          onForget={() => {
            onForget(of);
            setChosen(new Set());
          }}
        />
      ) : (
        <p className="border-t border-line2 px-3 py-1.5 text-[12px] text-ink3">
          Space plays the row that is chosen; Shift and Ctrl choose more, and what is said of them is said of all.
        </p>
      )}
    </>
  );
}

interface RowProps {
  row: Row;
  n: number;
  place: Place;
  byHand: boolean;
  names: string[];
  chosen: boolean;
  focusable: boolean;
  onChoose: (event: MouseEvent) => void;
  onHear: () => void;
  onMend: (what: Mended) => void;
}

function FileRow({ row, n, place, byHand, names, chosen, focusable, onChoose, onHear, onMend }: RowProps) {
  const stop = (event: { stopPropagation: () => void }) => event.stopPropagation();
  const field = "num rounded border bg-raised px-1";
  const rung = byHand ? "border-act font-semibold" : place.key === undefined ? "border-mark" : "border-line";
  const told = row.contradicts ? "text-mark" : row.heard.silent || row.key == null ? "text-warn" : "text-ink3";
  const keep = (event: KeyboardEvent<HTMLInputElement>) => {
    if (event.key === "Enter") event.currentTarget.blur();
    event.stopPropagation();
  };
  return (
    <tr
      className={`cursor-default select-none border-t border-line2 align-top outline-none focus-visible:bg-line2 ${chosen ? "bg-chosen" : ""}`}
      data-file={row.name}
      data-row={n}
      aria-selected={chosen}
      tabIndex={focusable ? 0 : -1}
      onClick={onChoose}
      onDoubleClick={onHear}
    >
      <td className="max-w-[230px] px-3 py-1">
        <span className="block truncate" title={row.name}>
          {row.name}
        </span>
        {row.right && (
          <span className="block truncate text-ink3" title={row.right.name}>
            left side; right side: {row.right.name.split(/[/\\]/).at(-1)}
          </span>
        )}
        {row.says.map((line) => (
          <span key={line} className={`block ${told}`}>
            {inWords(line)}
          </span>
        ))}
      </td>
      <td className="py-1" onClick={stop}>
        <input
          aria-label={`Rung of ${row.name}`}
          className={`${field} w-14 ${rung}`}
          key={`${place.key}`}
          defaultValue={place.key === undefined ? "" : keyName(place.key)}
          onKeyDown={keep}
          onBlur={(event) => {
            const key = parseKey(event.target.value);
            if (key !== undefined && key !== place.key) onMend({ key });
          }}
        />
      </td>
      <td className="py-1" onClick={stop}>
        <select
          aria-label={`Layer of ${row.name}`}
          className="rounded border border-line bg-raised"
          value={place.layer}
          onKeyDown={stop}
          onChange={(event) => onMend({ layer: Number(event.target.value) })}
        >
          {names.map((name, layer) => (
            <option key={name} value={layer}>
              {name}
            </option>
          ))}
        </select>
      </td>
      <td className="py-1" onClick={stop}>
        <input
          aria-label={`Turn of ${row.name}`}
          className={`${field} w-10 border-line`}
          key={`${place.round_robin}`}
          defaultValue={(place.round_robin ?? 0) + 1}
          onKeyDown={keep}
          onBlur={(event) => {
            const turn = parseTurn(event.target.value);
            if (turn !== undefined && turn !== place.round_robin) onMend({ round_robin: turn });
          }}
        />
      </td>
      <td className="py-1" onClick={stop}>
        <input
          type="checkbox"
          aria-label={`Key up of ${row.name}`}
          checked={place.key_up}
          onChange={(event) => onMend({ key_up: event.target.checked })}
        />
      </td>
      <td className="num py-1 pr-3">
        {row.heard.key == null ? "–" : `${keyName(row.heard.key)} ${centsShort(row.heard.cents)}`}
        {row.heard.inside && <span className="block text-ink3">root{row.heard.inside.loop ? " and loop" : ""} inside</span>}
      </td>
    </tr>
  );
}
