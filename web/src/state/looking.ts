// Going from one finding to the next, and what was found at the last look.
import { create } from "zustand";
import type { InstrumentView } from "../api/client";
import { cellId } from "../model/cells";
import { type FindingView, isLeft, type Looked } from "../model/findings";
import { useView } from "./view";

const lookOf = (id: number) => `ladder-looked-${id}`;

/** What was found when Check was left in this browser. */
function lastLook(id: number): Looked[] {
  try {
    const kept: unknown = JSON.parse(localStorage.getItem(lookOf(id)) ?? "[]");
    return Array.isArray(kept) ? (kept as Looked[]) : [];
  } catch {
    return [];
  }
}

/** All that was found since Check was opened, and at the look before, by instrument. */
export const useLooked = create<Record<number, Looked[]>>(() => ({}));

/** Notes what is found now, for this look and for the next. */
export function noteLook(id: number, findings: FindingView[]): void {
  const now = findings.filter((one) => isLeft(one)).map((one): Looked => ({ key: one.key, what: `${one.title} ${one.place}` }));
  useLooked.setState((all) => {
    const before = all[id] ?? lastLook(id);
    const known = new Set(before.map(({ key }) => key));
    return { ...all, [id]: [...before, ...now.filter(({ key }) => !known.has(key))] };
  });
  try {
    localStorage.setItem(lookOf(id), JSON.stringify(now));
  } catch {
    // Without room for it the next look begins from nothing.
  }
}

/** The look is over: the next begins from what is left now. */
export function endLook(id: number): void {
  useLooked.setState((all) => Object.fromEntries(Object.entries(all).filter(([of]) => Number(of) !== id)), true);
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
