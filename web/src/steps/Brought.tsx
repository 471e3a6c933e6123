// Where an instrument was brought from, what of that is not held, and whether its regions are still those of that file.
import type { InstrumentView } from "../api/client";
import { Choice } from "../parts/Choice";
import { change } from "../state/edits";
import { sayError } from "../state/view";

type Of = "brought" | "rule";

const REGIONS: { value: Of; name: string }[] = [
  { value: "brought", name: "as they were brought" },
  { value: "rule", name: "by rule, from the recordings" },
];

export function Brought({ view }: { view: InstrumentView }) {
  const { brought } = view;
  if (!brought) return null;
  const file = brought.file.split("/").at(-1);
  const set = (of: Of) =>
    void change(view.id, of === "rule" ? "lay it out by rule" : "lay it out as it was brought", [
      { fact: "as_brought", value: of === "rule" ? false : undefined },
    ]).catch(sayError);
  return (
    <div className={brought.as_brought ? "" : "mb-3 border-b border-line2 pb-3"} data-part="brought">
      <p className="mb-2 text-[12px]">
        Brought from{" "}
        <a className="underline" href={`/api/instruments/${view.id}/source`} title="That file, as it was brought">
          «{file}»
        </a>
        .
      </p>
      <Choice<Of> label="Regions" value={brought.as_brought ? "brought" : "rule"} options={REGIONS} onChange={set} />
      {brought.as_brought && (
        <p className="mt-2 text-[12px] text-ink3">
          What is set of recordings, regions and strands is laid over what was brought, and given back to that. XX
        </p>
      )}
      {brought.lost.length > 0 && (
        <ul className="mt-2 max-h-40 overflow-auto text-[12px] text-ink2" aria-label="Not held of that file">
          {brought.lost.map((line) => (
            <li key={line}>{line}</li>
          ))}
        </ul>
      )}
    </div>
  );
}
