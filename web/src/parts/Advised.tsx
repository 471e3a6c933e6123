// What the takes that are there tell about the plan, with the act that does it.
import type { InstrumentView } from "../api/client";
import { changePlan } from "../state/edits";
import { seconds } from "../model/units";
import { sayError } from "../state/view";
import { KINDS } from "../steps/PlanForm";

export function Advised({ view }: { view: InstrumentView }) {
  const { plan, advice } = view;
  return advice.map((one) => {
    const kind = one.kind && KINDS.find((known) => known.value === one.kind)?.name;
    const passes = plan.passes.map((pass) => (pass.id === one.pass ? { ...pass, hold_ms: one.hold_ms, tail_ms: one.tail_ms } : pass));
    const take = () => void changePlan(view, "take the advice", { ...plan, kind: one.kind ?? plan.kind, passes }).catch(sayError);
    return (
      <p key={one.pass} className="card flex shrink-0 items-center gap-3 !border-chosen-line !bg-chosen p-3" data-part="advice">
        <span className="flex-1">{one.because}</span>
        <button className="button" onClick={take}>
          {kind ? `${kind}, hold` : "Hold"} {seconds.show(one.hold_ms / 1000)}, tail {seconds.show(one.tail_ms / 1000)}
        </button>
      </p>
    );
  });
}
