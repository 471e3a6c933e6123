// What a format does not hold, and what is written instead.
import type { Schemas } from "../api/client";
import type { Format } from "../model/formats";

interface Props {
  format: Format;
  losses: Schemas["LossView"][] | undefined;
  children?: React.ReactNode;
}

export function Losses({ format, losses, children }: Props) {
  return (
    <div className="card p-3">
      <div className="mb-1 flex items-center">
        <h3 className="grow font-semibold">What this format will lose</h3>
        {children}
      </div>
      {losses?.length === 0 && (
        <p className="text-ink2">
          Nothing: fades and the loops' crossfades are rendered into the audio,{" "}
          {format === "page" ? "and all else is played as here" : "tuning is rounded to whole cents"}.
        </p>
      )}
      <ul className="list-disc pl-5">
        {losses?.map((loss) => (
          <li key={loss.what}>
            {loss.what} <span className="text-ink3">{loss.regions} regions</span>
          </li>
        ))}
      </ul>
    </div>
  );
}
