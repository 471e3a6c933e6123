// Going from one finding to the next.
import type { InstrumentView } from "../api/client";
import { cellId } from "../model/cells";
import { type FindingView, isLeft, type Looked } from "../model/findings";
import { useView } from "./view";

const lookOf = (id: number) => `ladder-looked-${id}`;

/** What was found when Check was left in this browser. */
export function lastLook(id: number): Looked[] {
  try {
    const kept: unknown = JSON.parse(localStorage.getItem(lookOf(id)) ?? "[]");
    return Array.isArray(kept) ? (kept as Looked[]) : [];
  } catch {
    return [];
  }
}

/** Keeps what is found now, for the next look. */
export function keepLook(id: number, findings: FindingView[]): void {
  const all = findings.filter((one) => isLeft(one)).map((one): Looked => ({ key: one.key, what: `${one.title} ${one.place}` }));
  try {
    localStorage.setItem(lookOf(id), JSON.stringify(all));
  } catch {
    // Without room for it the next look begins from nothing.
  }
}

/** Chooses a finding, its cell on the board of its pass with it, and brings its key into view. */
export function lookAtFinding(view: Pick<InstrumentView, "plan">, finding: FindingView): void {
  const { setFinding, setPass, choose, look, keys, low, pass } = useView.getState();
  setFinding(finding.key);
  if (finding.cell) {
    const { pass: wanted } = finding.cell;
    const at = view.plan.passes.findIndex(({ id }) => id === wanted);
    if (at >= 0 && at !== pass) setPass(at);
    const id = cellId(finding.cell);
    choose(id, new Set([id]));
  }
  const at = finding.cell?.key ?? finding.keys?.[0];
  if (at !== undefined && (at < low || at >= low + keys)) look(at - Math.floor(keys / 2), keys);
}
