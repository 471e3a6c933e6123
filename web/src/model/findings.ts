// What is wrong with an instrument: in which order it is looked at, and how it is shown.
import type { InstrumentView, Schemas } from "../api/client";
import { type BoardCell, cellId, layerOf } from "./cells";
import { inWords } from "./keys";
import { STEPS } from "./steps";
import { signed, type Unit } from "./units";

export type FindingView = Schemas["FindingView"];
export type Findings = Schemas["FindingsView"];

/** What is left to look at: nobody accepted it. */
export const isLeft = (finding: FindingView) => finding.accepted == null;

/** What of it is wrong, what is to be looked at, what is accepted. */
export function counts(findings: FindingView[]) {
  const left = findings.filter(isLeft);
  const wrong = left.filter((finding) => finding.wrong).length;
  return { wrong, look: left.length - wrong, accepted: findings.length - left.length };
}

/** What is left, from step to step along the rail; within a step as it stands, worst first. */
export function alongSteps(findings: FindingView[]): FindingView[] {
  const at = (finding: FindingView) => STEPS.indexOf(finding.step);
  return findings.filter(isLeft).toSorted((a, b) => at(a) - at(b));
}

/** The next of some, or the one before; from what is none of them the first. */
export function nextOf(all: FindingView[], chosen: number | undefined, by: 1 | -1): FindingView | undefined {
  const at = all.findIndex((finding) => finding.key === chosen);
  return at < 0 ? all[0] : all[Math.min(all.length - 1, Math.max(0, at + by))];
}

/** The worst that is left on each cell. */
export function worstOnCells(findings: FindingView[]): Map<string, FindingView> {
  const worst = new Map<string, FindingView>();
  for (const finding of findings) {
    if (!finding.cell || !isLeft(finding)) continue;
    const id = cellId(finding.cell);
    if (!worst.has(id)) worst.set(id, finding);
  }
  return worst;
}

/** Where it is, in words; keys are named as the page names them. */
export const whereOf = (finding: FindingView): string => inWords(finding.place);

/** The key that it is heard on, and how hard that is struck. */
export function heardOn(view: Pick<InstrumentView, "plan">, finding: FindingView): { key: number; strike: number } | undefined {
  const strikes = finding.strikes as [number, number] | undefined | null;
  const strike = strikes?.[1] ?? (finding.cell ? layerOf(view.plan, finding.cell)?.strike_velocity : undefined) ?? 100;
  const at = finding.cell?.key ?? finding.keys?.[0];
  return at === undefined ? undefined : { key: at, strike };
}

/** A finding of an earlier look, by its name and in words. */
export interface Looked {
  key: number;
  what: string;
}

/** What of an earlier look is no more: mended, or gone with what it was about. While something is still to be heard, nothing is known to be gone. */
export function goneSince(before: Looked[], now: Pick<Findings, "findings" | "to_hear">): Looked[] {
  if (now.to_hear > 0) return [];
  const there = new Set(now.findings.map(({ key }) => key));
  return before.filter(({ key }) => !there.has(key));
}

/** Cells whose takes are recorded once more: what is wrong with them is mended nowhere else. */
export function toRecordAgain(findings: FindingView[]): NonNullable<FindingView["cell"]>[] {
  const cells = findings.filter((one) => isLeft(one) && one.step === "record" && !one.mend && one.kind !== "not_recorded");
  const all = new Map(cells.flatMap(({ cell }) => (cell ? [[cellId(cell), cell] as const] : [])));
  return [...all.values()];
}

/** How much of the cells is as it should be: 0 to 1. */
export function shareRight(cells: BoardCell[], findings: FindingView[]): number {
  const worst = worstOnCells(findings);
  return cells.filter((cell) => cell.take && !worst.has(cell.id)).length / Math.max(1, cells.length);
}

const plain = (unit: string, digits = 0): Unit => ({
  show: (value) => `${signed(value, digits)}${unit}`,
  parse: (text) => {
    const value = Number.parseFloat(text.replace("−", "-").replace(",", "."));
    return Number.isFinite(value) ? value : undefined;
  },
  step: digits > 0 ? 0.5 : 1,
  fine: 10 ** -digits,
});

/** How a limit is read and written. */
export function unitOf(unit: Schemas["Unit"]): Unit {
  switch (unit) {
    case "db":
    case "level":
      return plain(" dB", 1);
    case "cents":
      return plain(" ct");
    case "semitones":
      return plain(" st", 1);
    case "ms":
      return plain(" ms");
    case "frames":
      return plain(" frames");
    case "keys":
      return plain(" keys");
    default:
      return plain("", unit === "likeness" ? 2 : 0);
  }
}
