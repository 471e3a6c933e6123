// The strands of an instrument: which is taken hold of, which are heard, and in which order they stand.
import type { InstrumentView } from "../api/client";
import { keyName } from "../model/keys";
import { EVENTS, eventOf, passOfStrand, type PlacedStrand } from "../model/strands";
import { decibels } from "../model/units";
import { change } from "../state/edits";
import { useMap } from "../state/map";
import { sayError, useView } from "../state/view";
import { CopiesOf, ShareOut } from "./StrandActs";
import { sayOf } from "./strandFacts";

interface Props {
  view: InstrumentView;
  strands: PlacedStrand[];
  /** The one that can be taken hold of. */
  held: PlacedStrand | undefined;
}

export function Strands({ view, strands, held }: Props) {
  const { setStrand, alone, listenTo } = useMap();
  const setPass = useView((state) => state.setPass);
  const hold = (strand: number) => {
    // The ladder has the rungs of what is held.
    const pass = passOfStrand(view, strand);
    if (pass !== undefined) setPass(pass);
    setStrand(strand);
  };
  return (
    <>
      <div className="flex items-end justify-between gap-3">
        <div>
          <h2 className="text-[17px] font-semibold">Strands</h2>
          <p className="text-[11.5px] text-ink3">sets of regions that sound together</p>
        </div>
        {held && (
          <div className="flex gap-2">
            <CopiesOf view={view} of={held} />
            <ShareOut view={view} strands={strands} />
          </div>
        )}
      </div>
      <table className="card w-full overflow-hidden" data-part="strands">
        <thead className="text-left text-ink3">
          <tr>
            <th className="px-3 py-1.5 font-normal">strand</th>
            <th className="font-normal">sounds on</th>
            <th className="text-right font-normal">regions</th>
            <th className="px-3 text-right font-normal">level</th>
            <th className="font-normal">heard</th>
          </tr>
        </thead>
        <tbody>
          {strands.map((of, n) => (
            <tr
              key={of.strand.id}
              data-strand={of.strand.name}
              className={`border-t border-line2 ${of === held ? "bg-chosen" : ""} ${of.strand.muted ? "text-ink3" : ""}`}
            >
              <td className="px-3 py-1 font-semibold">
                <label className="flex items-center gap-2">
                  <input
                    type="radio"
                    name="strand"
                    checked={of === held}
                    onChange={() => hold(of.strand.id)}
                    title="Alt with the up and down arrows puts it elsewhere in the order"
                    onKeyDown={(event) => {
                      const to = event.key === "ArrowUp" ? -1 : event.key === "ArrowDown" ? 1 : 0;
                      if (!event.altKey || to === 0) return;
                      event.preventDefault();
                      event.stopPropagation();
                      putElsewhere(view.id, strands, n, to);
                    }}
                  />
                  {of.strand.name}
                </label>
              </td>
              <td>{EVENTS.find(({ value }) => value === eventOf(of.strand.on))?.name}</td>
              <td className="num text-right">{of.regions}</td>
              <td className="num px-3 text-right">{decibels.show(of.strand.gain_db)}</td>
              <td className="pr-3 whitespace-nowrap">
                <button
                  className={`button small ${of.strand.muted ? "on" : ""}`}
                  aria-pressed={of.strand.muted ?? false}
                  title="Silent, here and in what is given away"
                  onClick={() =>
                    sayOf(
                      view.id,
                      of,
                      "strand_muted",
                      of.strand.muted ? undefined : true,
                      `${of.strand.muted ? "unmute" : "mute"} ${of.strand.name}`,
                    )
                  }
                >
                  mute
                </button>{" "}
                <button
                  className={`button small ${alone.includes(of.strand.id) ? "on" : ""}`}
                  aria-pressed={alone.includes(of.strand.id)}
                  title="Only what is heard alone sounds, on this page"
                  onClick={() => listenTo(of.strand.id, !alone.includes(of.strand.id))}
                >
                  alone
                </button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {held && <Uncovered view={view} held={held} />}
    </>
  );
}

/** What of a strand is silent, and what sounds twice. */
function Uncovered({ view, held }: { view: InstrumentView; held: PlacedStrand }) {
  const { look, keys } = useView();
  const own = view.coverage.filter(({ strand }) => strand === held.strand.id);
  if (own.length === 0) return null;
  const words = (found: (typeof own)[number]) =>
    `${keyName(found.low_key)}${found.high_key > found.low_key ? ` to ${keyName(found.high_key)}` : ""}${
      found.low_strike > 1 || found.high_strike < 127 ? `, strikes ${found.low_strike} to ${found.high_strike}` : ""
    }`;
  return (
    <ul className="text-[12px]" data-part="coverage">
      {own.slice(0, MOST_SAID).map((found) => (
        <li key={JSON.stringify(found)} className="flex items-center gap-2">
          <span className={found.what === "gap" ? "text-mark" : "text-warn"}>{found.what === "gap" ? "silent" : "sounds twice"}</span>
          <button
            className="rounded px-1 underline hover:bg-line2"
            onClick={() => look(Math.round((found.low_key + found.high_key - keys) / 2), keys)}
          >
            {words(found)}
          </button>
        </li>
      ))}
      {own.length > MOST_SAID && <li className="text-ink3">and {own.length - MOST_SAID} more places</li>}
    </ul>
  );
}

/** So many places are said; the board shows all. */
const MOST_SAID = 3;

/** A strand changes places with the one before or after it. */
function putElsewhere(instrument: number, strands: PlacedStrand[], n: number, by: number): void {
  const other = n + by;
  if (!strands[other]) return;
  const order = strands.map(({ strand }) => strand.id);
  [order[n], order[other]] = [order[other]!, order[n]!];
  const wishes = order.map((strand, place) => ({ strand, fact: "strand_place" as const, value: place }));
  void change(instrument, `put ${strands[n]!.strand.name} elsewhere`, wishes).catch(sayError);
}
