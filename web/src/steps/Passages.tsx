// What was played on both, passage by passage.
import { type Beside, passageFigures, passageName } from "../model/beside";
import { ThirdOctaves } from "./ThirdOctaves";

export function Passages({
  beside,
  chosen,
  setChosen,
}: {
  beside: Beside;
  chosen: number | undefined;
  setChosen: (n: number | undefined) => void;
}) {
  const one = chosen === undefined ? undefined : beside.passages[chosen];
  return (
    <div className="card flex min-h-0 flex-col gap-2 p-3" data-part="passages">
      <div className="flex items-center gap-2">
        <b className="grow font-semibold">
          {one ? passageName(one) : "All passages"} <span className="font-normal text-ink3">the source over what was built</span>
        </b>
        {one && (
          <button className="button" onClick={() => setChosen(undefined)}>
            All of them
          </button>
        )}
      </div>
      {one && <p className="num text-[12.5px]">{passageFigures(one).join(" · ")}</p>}
      <ThirdOctaves passages={one ? [one] : beside.passages} names={["source", "what was built"]} />
      <ul aria-label="Passages" className="flex flex-wrap gap-1">
        {beside.passages.map((passage, n) => (
          <li key={n}>
            <button
              className={`button num !text-[12px] ${n === chosen ? "on" : ""}`}
              aria-pressed={n === chosen}
              title={passageFigures(passage).join(" · ")}
              onClick={() => setChosen(n === chosen ? undefined : n)}
            >
              {passageName(passage)}
              {passage.judges && <span className="ml-1 text-act">•</span>}
            </button>
          </li>
        ))}
      </ul>
    </div>
  );
}
