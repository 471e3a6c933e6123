// One rule of tuning for all that are chosen.
import { useState } from "react";
import { answer, api, type Schemas } from "../api/client";
import { change } from "../state/edits";
import type { OnBench } from "../parts/Bench";
import { Choice } from "../parts/Choice";
import { sayError } from "../state/view";

type Rule = Schemas["TuningRule"];
const RULES: { value: Rule; name: string }[] = [
  { value: "equal", name: "to equal temperament" },
  { value: "own_curve", name: "to the ladder's own curve" },
  { value: "as_recorded", name: "leave as it is" },
];

/** One rule for all that are chosen; root and cents stay the truth about the recordings. */
export function TuningOfAll({ on }: { on: OnBench }) {
  const { takes, view } = on;
  const [rule, setRule] = useState<Rule>("own_curve");
  const apply = async () => {
    const proposed = answer(
      await api.POST("/api/instruments/{id}/even", {
        params: { path: { id: view.id } },
        body: { even: { tuning: { rule } }, takes: takes.map((t) => t.id) },
      }),
    );
    await change(
      view.id,
      `tune ${proposed.length} takes ${RULES.find((r) => r.value === rule)!.name}`,
      proposed.map(({ take, value }) => ({ take, fact: "tune_cents" as const, value: rule === "equal" ? undefined : value })),
    );
  };
  return (
    <section className="card flex flex-wrap items-end gap-3 p-3" aria-label="Tuning of all chosen">
      <div className="w-52">
        <Choice label="Tuning of all chosen" value={rule} onChange={setRule} options={RULES} />
      </div>
      <button className="button" onClick={() => void apply().catch(sayError)}>
        Tune {takes.length} {takes.length === 1 ? "take" : "takes"}
      </button>
      <p className="min-w-0 flex-1 pb-1 text-ink3">
        {rule === "own_curve"
          ? "Single faults are taken out; what is sharp or flat throughout stays."
          : rule === "equal"
            ? "Every take is corrected to its key."
            : "Every take sounds as it was recorded."}
      </p>
    </section>
  );
}
