// Going from one finding to the next.
import type { InstrumentView } from "../api/client";
import { cellId } from "../model/cells";
import type { FindingView } from "../model/findings";
import { useView } from "./view";

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
