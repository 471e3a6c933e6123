// The regions of the chosen strand as a table: sorted, filtered, typed into, copied to a spreadsheet and pasted from one.
import { useVirtualizer } from "@tanstack/react-virtual";
import { type ClipboardEvent, type KeyboardEvent, type MouseEvent, useEffect, useEffectEvent, useMemo, useRef, useState } from "react";
import type { InstrumentView } from "../api/client";
import { inWords } from "../model/keys";
import type { Placed } from "../model/regions";
import { filtered, sorted, type Sorting, tableText } from "../model/tables";
import { key } from "../model/units";
import { change } from "../state/edits";
import { useMap } from "../state/map";
import { sayError } from "../state/view";
import { LIMITS, type RegionNumber, SOUND, wishOf } from "./regionNumbers";

const ROW = 24;
const NUMBERS: RegionNumber[] = [...LIMITS, ...SOUND];
const GRID = "grid grid-cols-[minmax(96px,1fr)_repeat(4,38px)_38px_66px_46px_66px_54px_46px]";

interface Props {
  view: InstrumentView;
  all: Placed[];
  /** Those that are chosen, the one on the bench first. */
  chosen: Placed[];
}

interface At {
  row: number;
  /** Of [`NUMBERS`]. */
  column: number;
}

export function RegionTable({ view, all, chosen }: Props) {
  const { choose } = useMap();
  const [filter, setFilter] = useState("");
  const [sorting, setSorting] = useState<Sorting>({ column: -1, down: false });
  const [at, setAt] = useState<At>({ row: 0, column: 0 });
  const [typed, setTyped] = useState<string>();
  const scroller = useRef<HTMLDivElement>(null);
  const nameOf = useMemo(() => {
    const names = view.program.samples.map((sample) => inWords(sample.name));
    return (of: Placed) => names[of.region.sample] ?? "";
  }, [view.program.samples]);
  const rows = useMemo(() => {
    const kept = filtered(all, filter, (of) => `${nameOf(of)} ${of.byHand.length > 0 ? "by hand" : ""}`);
    return sorted(kept, sorting, (of, column) => (column < 0 ? kept.indexOf(of) : NUMBERS[column]!.of(of)));
  }, [all, filter, nameOf, sorting]);
  const isChosen = new Set(chosen.map((of) => of.id));
  // eslint-disable-next-line react-hooks/incompatible-library -- nothing here keeps the functions that it gives, which change without a new picture
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => ROW,
    overscan: 8,
  });

  // What is on the bench is seen, once.
  const show = useEffectEvent(() => {
    const first = rows.findIndex((of) => isChosen.has(of.id));
    if (first >= 0) virtual.scrollToIndex(first, { align: "center" });
  });
  useEffect(() => show(), []);

  const go = (row: number, column: number, extend: boolean) => {
    const next = { row: Math.min(rows.length - 1, Math.max(0, row)), column: Math.min(NUMBERS.length - 1, Math.max(0, column)) };
    setAt(next);
    setTyped(undefined);
    const of = rows[next.row];
    if (of && (next.row !== at.row || !isChosen.has(of.id)))
      choose(extend ? [of.id, ...chosen.map((one) => one.id).filter((id) => id !== of.id)] : [of.id]);
    virtual.scrollToIndex(next.row);
    requestAnimationFrame(() =>
      scroller.current?.querySelector<HTMLElement>(`[data-at="${next.row}/${next.column}"]`)?.focus({ preventScroll: true }),
    );
  };
  const keep = () => {
    const of = rows[at.row];
    const number = NUMBERS[at.column]!;
    if (typed === undefined || !of) return;
    setTyped(undefined);
    const value = number.unit.parse(typed);
    if (value === undefined) return sayError(new Error(`«${typed}» is not understood as ${number.label.toLowerCase()}.`));
    const onto = isChosen.has(of.id) ? chosen : [of];
    const what = onto.length === 1 ? "a region" : `${onto.length} regions`;
    void change(
      view.id,
      `set ${number.label.toLowerCase()} of ${what}`,
      onto.map((one) => wishOf(one, number, value)),
    ).catch(sayError);
  };
  const onKeyDown = (event: KeyboardEvent) => {
    const { row, column } = at;
    const steps: Record<string, [number, number]> = {
      ArrowDown: [1, 0],
      ArrowUp: [-1, 0],
      ArrowRight: [0, 1],
      ArrowLeft: [0, -1],
      PageDown: [20, 0],
      PageUp: [-20, 0],
    };
    const step = steps[event.key];
    if (typed !== undefined) {
      if (event.key === "Enter") {
        keep();
        go(row + 1, column, true);
      } else if (event.key === "Escape") go(row, column, true);
      event.stopPropagation();
      return;
    }
    if (step) go(row + step[0], column + step[1], event.shiftKey);
    else if (event.key === "Enter" || event.key === "F2") setTyped(NUMBERS[column]!.unit.show(NUMBERS[column]!.of(rows[row]!)));
    else if ((event.ctrlKey || event.metaKey) && event.key === "a") choose(rows.map((of) => of.id));
    else if (/^[-+−\d.,A-Ga-g]$/.test(event.key) && !event.ctrlKey && !event.metaKey && !event.altKey) setTyped(event.key);
    else return;
    event.preventDefault();
    event.stopPropagation();
  };
  const onClick = (event: MouseEvent<HTMLElement>) => {
    const place = (event.target as HTMLElement).closest<HTMLElement>("[data-at]")?.dataset["at"]?.split("/").map(Number);
    const [row, column] = place ?? [];
    if (row === undefined || column === undefined || (typed !== undefined && row === at.row && column === at.column)) return;
    const here = row === at.row && column === at.column && isChosen.has(rows[row]?.id ?? "");
    if (here) setTyped(NUMBERS[column]!.unit.show(NUMBERS[column]!.of(rows[row]!)));
    else go(row, column, event.shiftKey || event.ctrlKey || event.metaKey);
  };
  const onCopy = (event: ClipboardEvent) => {
    if (typed !== undefined) return;
    const onto = rows.filter((of) => isChosen.has(of.id));
    const text = tableText([
      ["region", ...NUMBERS.map((number) => number.short), "root"],
      ...(onto.length > 0 ? onto : rows).map((of) => [
        nameOf(of),
        ...NUMBERS.map((number) => number.unit.show(number.of(of))),
        key.show(of.region.root_key),
      ]),
    ]);
    event.clipboardData.setData("text/plain", text);
    event.preventDefault();
  };
  const onPaste = (event: ClipboardEvent) => {
    if (typed !== undefined) return;
    event.preventDefault();
    const lines = event.clipboardData.getData("text/plain").replace(/\r/g, "").replace(/\n$/, "").split("\n");
    const missed: string[] = [];
    const wishes = lines.flatMap((line, n) =>
      line.split("\t").flatMap((text, m) => {
        const [of, number] = [rows[at.row + n], NUMBERS[at.column + m]];
        if (!of || !number || text.trim() === "") return [];
        const value = number.unit.parse(text);
        if (value === undefined) missed.push(text);
        return value === undefined ? [] : [wishOf(of, number, value)];
      }),
    );
    if (missed.length > 0)
      sayError(new Error(`«${missed[0]}» is not understood here${missed.length > 1 ? `, nor ${missed.length - 1} more` : ""}.`));
    if (wishes.length > 0) void change(view.id, `paste ${wishes.length} numbers of regions`, wishes).catch(sayError);
  };
  return (
    <div className="card flex min-h-0 grow flex-col overflow-hidden" data-part="table">
      <div className="flex items-center gap-3 border-b border-line2 px-3 py-2">
        <input
          className="written grow"
          aria-label="Only regions with"
          placeholder="only regions with …"
          value={filter}
          onChange={(event) => setFilter(event.target.value)}
          onKeyDown={(event) => event.stopPropagation()}
        />
        <span className="text-[12px] whitespace-nowrap text-ink3">
          {rows.length} of {all.length} · {chosen.length} chosen
        </span>
      </div>
      <div
        ref={scroller}
        role="grid"
        tabIndex={-1}
        aria-label="Regions"
        aria-rowcount={rows.length + 1}
        aria-multiselectable
        className="min-h-[220px] grow overflow-auto text-[12px]"
        onKeyDown={onKeyDown}
        onClick={onClick}
        onCopy={onCopy}
        onPaste={onPaste}
      >
        <div role="row" aria-rowindex={1} className={`${GRID} sticky top-0 z-10 bg-raised text-ink3`}>
          <Head name="region" column={-1} sorting={sorting} onSort={setSorting} />
          {NUMBERS.slice(0, 4).map((number, n) => (
            <Head key={number.fact} name={number.short} column={n} sorting={sorting} onSort={setSorting} />
          ))}
          <span role="columnheader" className="px-1 py-1 text-right">
            root
          </span>
          {NUMBERS.slice(4).map((number, n) => (
            <Head key={number.fact} name={number.short} column={n + 4} sorting={sorting} onSort={setSorting} />
          ))}
        </div>
        <div style={{ height: virtual.getTotalSize(), position: "relative" }}>
          {virtual.getVirtualItems().map(({ index, start }) => {
            const of = rows[index]!;
            const cell = (column: number) => {
              const number = NUMBERS[column]!;
              const here = at.row === index && at.column === column;
              const byHand = of.byHand.includes(number.fact);
              return (
                <div
                  key={number.fact}
                  role="gridcell"
                  data-at={`${index}/${column}`}
                  tabIndex={here ? 0 : -1}
                  className={`num truncate px-1 leading-[24px] text-right outline-offset-[-2px] ${byHand ? "font-semibold text-act" : ""}`}
                  title={byHand ? "Set by hand" : undefined}
                >
                  {here && typed !== undefined ? (
                    <Typing label={`${number.label} of ${nameOf(of)}`} text={typed} onType={setTyped} onLeave={keep} />
                  ) : (
                    number.unit.show(number.of(of))
                  )}
                </div>
              );
            };
            return (
              <div
                key={of.id}
                role="row"
                aria-rowindex={index + 2}
                aria-selected={isChosen.has(of.id)}
                data-row={of.id}
                className={`${GRID} absolute inset-x-0 border-t focus-within:z-10 border-line2 ${isChosen.has(of.id) ? "bg-chosen" : ""}`}
                style={{ transform: `translateY(${start}px)`, height: ROW }}
              >
                <span role="rowheader" className="truncate px-2 leading-[24px]">
                  {nameOf(of)}
                </span>
                {[0, 1, 2, 3].map(cell)}
                <span role="gridcell" className="num px-1 text-right leading-[24px] text-ink3">
                  {key.show(of.region.root_key)}
                </span>
                {[4, 5, 6, 7, 8].map(cell)}
              </div>
            );
          })}
        </div>
      </div>
      <p className="border-t border-line2 px-3 py-1.5 text-[11.5px] text-ink3">
        Type a number, Enter keeps it; on a chosen row it goes to all that are chosen. Shift chooses more, Ctrl+C and Ctrl+V copy and paste
        as a spreadsheet does.
      </p>
    </div>
  );
}

/** A number while it is typed. */
function Typing(props: { label: string; text: string; onType: (text: string) => void; onLeave: () => void }) {
  const input = useRef<HTMLInputElement>(null);
  useEffect(() => input.current?.focus(), []);
  return (
    <input
      ref={input}
      aria-label={props.label}
      className="w-full bg-raised text-right outline-none"
      value={props.text}
      onChange={(event) => props.onType(event.target.value)}
      onBlur={props.onLeave}
    />
  );
}

function Head(props: { name: string; column: number; sorting: Sorting; onSort: (sorting: Sorting) => void }) {
  const { name, column, sorting, onSort } = props;
  const here = sorting.column === column;
  return (
    <span role="columnheader" aria-sort={here ? (sorting.down ? "descending" : "ascending") : "none"}>
      <button
        className={`w-full px-1 py-1 hover:text-ink ${column < 0 ? "pl-2 text-left" : "text-right"}`}
        onClick={() => onSort({ column, down: here && !sorting.down })}
      >
        {name}
        {here && column >= 0 ? (sorting.down ? " ↓" : " ↑") : ""}
      </button>
    </span>
  );
}
