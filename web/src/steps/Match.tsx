// What both are apart, and what brings them nearer, each taken with one act.
import { answer, api, type InstrumentView, type Schemas } from "../api/client";
import { apartLines, type Beside } from "../model/beside";
import { queries } from "../state/client";
import { act } from "../state/edits";
import { usePending } from "../state/pending";
import { besideQuery } from "../state/queries";

/** What brings both nearer, each taken with one act. */
export function Match({ view, beside, fresh }: { view: InstrumentView; beside: Beside; fresh: boolean }) {
  const [pending, begin] = usePending();
  const take = (what: Schemas["ProposalView"]["what"]) =>
    begin(async () => {
      const path = { id: view.id, long_take: beside.long_take };
      await act(view.id, async () =>
        answer(await api.POST("/api/instruments/{id}/beside/{long_take}/match", { params: { path }, body: { what: what ?? null } })),
      );
      await queries.invalidateQueries({ queryKey: besideQuery(view.id).queryKey });
    });
  const all = beside.together ?? beside.proposals[0];
  const helps = (after: Schemas["Apart"]) => after.all_db < beside.before.all_db;
  const nearer = (after: Schemas["Apart"]) => `${beside.before.all_db.toFixed(1)} → ${after.all_db.toFixed(1)} dB apart`;
  return (
    <div className="card flex flex-col gap-2 p-3" data-part="match">
      <div className="flex items-start gap-6">
        <table className="num shrink-0 text-left text-[12.5px]">
          <thead className="text-ink3">
            <tr>
              <th className="pr-4 font-normal">apart</th>
              <th className="pr-4 font-normal">now</th>
              <th className="font-normal">{all ? "matched" : ""}</th>
            </tr>
          </thead>
          <tbody>
            {apartLines(beside.before, all?.after).map(({ what, now, then }) => (
              <tr key={what}>
                <td className="pr-4 text-ink2">{what}</td>
                <td className="pr-4">{now}</td>
                <td>{then}</td>
              </tr>
            ))}
          </tbody>
        </table>
        <div className="min-w-0 grow">
          {beside.tried && beside.proposals.length === 0 && (
            <p className="text-ink2">
              {beside.before.all_db < 1.5
                ? "Both are as near as one needs: nothing that was tried brings them nearer."
                : "Nothing that was tried brings both nearer."}
            </p>
          )}
          <ul className="space-y-1.5" aria-label="What brings both nearer">
            {beside.proposals.map(({ what, says, after }) => (
              <li key={what} className="flex items-start gap-2" data-part="proposal">
                <span className="min-w-0 grow">
                  {says[0]?.toUpperCase()}
                  {says.slice(1)}
                  <span className="num block text-[12px] text-ink3">
                    {helps(after) ? `by itself ${nearer(after)}` : "only together with the others"}
                  </span>
                </span>
                {helps(after) && (
                  <button className="button shrink-0" disabled={pending || !fresh} onClick={() => take(what)}>
                    Take it
                  </button>
                )}
              </li>
            ))}
          </ul>
          {beside.together && (
            <div className="mt-2 flex items-center gap-2">
              <button className="button act" disabled={pending || !fresh} onClick={() => take(null)}>
                Take the match
              </button>
              <span className="num text-[12px] text-ink3">{nearer(beside.together.after)}</span>
            </div>
          )}
        </div>
      </div>
      <p className="text-[12px] text-ink3">
        {beside.judged_by_same
          ? "Found and judged by the same notes: there are too few to keep some back."
          : "Judged by notes and chords that it was not found by, those with a dot."}
      </p>
    </div>
  );
}
