// All takes of a cell: heard, compared, one of them chosen; where each came from.
import type { InstrumentView, TakeView } from "../api/client";
import { change } from "../state/edits";
import { centsShort, db } from "../model/units";
import { inWords, keyName } from "../model/keys";
import { player } from "../sound/player";
import { sayError } from "../state/view";
import { type BoardCell, sameCell } from "../model/cells";

export function Takes({ view, cell }: { view: InstrumentView; cell: BoardCell }) {
  const takes = view.takes.filter((t) => sameCell(t.cell, cell.cell));
  if (takes.length === 0) return null;
  const choose = (take: TakeView) => {
    const others = takes.filter((t) => t.id !== take.id);
    void change(view.id, "choose another take", [
      { take: take.id, fact: "chosen", value: true },
      ...others.map((t) => ({ take: t.id, fact: "chosen" as const, value: undefined })),
    ]).catch(sayError);
  };
  return (
    <section className="card" aria-label={`Takes of ${keyName(cell.cell.key)}`} data-part="takes">
      <div className="flex justify-between px-3 pt-2 pb-1">
        <b className="font-semibold">Takes of {keyName(cell.cell.key)}</b>
        <span className="text-ink3">{takes.length === 1 ? "one" : `${takes.length}, oldest first`}</span>
      </div>
      <ul>
        {takes.map((take, n) => (
          <li key={take.id} className={`flex items-center gap-3 border-t border-line2 px-3 py-1.5 ${take.chosen ? "bg-act-soft" : ""}`}>
            <span className="num w-5 text-ink3">{n + 1}</span>
            <span className="min-w-0 flex-1">
              <span className="num text-[12px]">
                {take.facts?.pitch
                  ? `${keyName(take.facts.pitch.key)} ${centsShort(take.facts.pitch.cents)}`
                  : take.facts
                    ? "no pitch"
                    : "being measured"}{" "}
                · {db(take.facts?.peak_dbfs)} · {(take.frames / take.rate_hz).toFixed(1)} s
              </span>
              {(take.origin.verdict?.sentences.length ?? 0) > 0 && (
                <span className="block text-[12px] text-warn">{inWords(take.origin.verdict!.sentences.join(" "))}</span>
              )}
              {(take.origin.made_by || take.origin.file) && (
                <span className="block truncate text-[11.5px] text-ink3">
                  {[
                    take.origin.made_by && `${take.origin.made_by}${take.origin.from_take ? `, from take ${take.origin.from_take}` : ""}`,
                    take.origin.file,
                  ]
                    .filter(Boolean)
                    .join(" · ")}
                </span>
              )}
            </span>
            <button className="button" onClick={() => void player.hearTake(take).catch(sayError)}>
              Hear
            </button>
            {take.chosen ? (
              <span className="w-[70px] text-center font-medium text-act">chosen</span>
            ) : (
              <button className="button w-[70px] !px-1" onClick={() => choose(take)}>
                Choose
              </button>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}
