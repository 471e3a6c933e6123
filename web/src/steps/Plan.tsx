// The plan of an instrument that is there: edited at any time, printed, written as a MIDI file.
import { Link } from "@tanstack/react-router";
import type { InstrumentView, Plan } from "../api/client";
import { change, changePlan } from "../state/edits";
import { sayError } from "../state/view";
import { Advised } from "../parts/Advised";
import { Choice } from "../parts/Choice";
import { Written } from "../parts/Written";
import { Patterns } from "./Patterns";
import { HOWS, PlanForm } from "./PlanForm";

export function PlanBench({ view }: { view: InstrumentView }) {
  const { plan } = view;
  const keep = (label: string, next: Plan) => void changePlan(view, label, next).catch(sayError);
  const keepTags = (text: string) => {
    const list = [
      ...new Set(
        text
          .split(",")
          .map((t) => t.trim())
          .filter(Boolean),
      ),
    ];
    void change(view.id, "change the tags", [{ fact: "tags", value: list }]).catch(sayError);
  };
  return (
    <>
      <Advised view={view} />
      <PlanForm plan={plan} onChange={(next) => keep("change the plan", next)} />
      <section className="card flex flex-wrap items-end gap-3 p-3" aria-label="The plan elsewhere">
        <div className="w-40">
          <Choice
            label="Recorded"
            value={plan.source.how ?? "over_midi"}
            onChange={(how) => keep("record it another way", { ...plan, source: { ...plan.source, how } })}
            options={HOWS}
          />
        </div>
        <Written label="Tags, with commas" place="w-44" value={view.tags.join(", ")} onKeep={keepTags} />
        <Link to="/instruments/$id/sheet" params={{ id: String(view.id) }} className="button">
          Recording sheet
        </Link>
        <a className="button" href={`/api/instruments/${view.id}/plan.mid`}>
          MIDI file
        </a>
      </section>
      <Patterns view={view} />
    </>
  );
}
