// What sounds against what is asked for: a needle over half a semitone to either side.
import { keyName } from "../model/keys";
import { centsFine } from "../model/units";

interface Sounding {
  key: number;
  cents: number;
  sounds: boolean;
}

const WIDE = 50;
const [WIDTH, HEIGHT] = [360, 46];
/** In tune for the eye, in cents. */
const MIDDLE = 3;

export function Needle({ needle }: { needle: Sounding | null | undefined }) {
  const at = (value: number) => WIDTH / 2 + (Math.min(WIDE, Math.max(-WIDE, value)) * (WIDTH - 24)) / (2 * WIDE);
  const far = needle && Math.abs(needle.cents) > WIDE + 10;
  const says = !needle ? "Nothing heard yet" : far ? `${keyName(needle.key)} sounds` : centsFine(needle.cents);
  return (
    <div className="flex flex-col items-center" data-part="needle" data-sounds={needle?.sounds ?? false}>
      <svg
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        className="w-[540px] max-w-full"
        role="meter"
        aria-label="What sounds, against the note that is asked for"
        aria-valuemin={-50}
        aria-valuemax={50}
        aria-valuenow={needle ? Math.round(needle.cents * 10) / 10 : undefined}
        aria-valuetext={says}
      >
        <rect x={at(-MIDDLE)} y={8} width={at(MIDDLE) - at(-MIDDLE)} height={24} className="fill-act-soft" />
        {[-50, -40, -30, -20, -10, 0, 10, 20, 30, 40, 50].map((tick) => (
          <line key={tick} x1={at(tick)} x2={at(tick)} y1={tick % 50 === 0 ? 8 : 20} y2={32} className="stroke-ink3" />
        ))}
        {[-50, 0, 50].map((tick) => (
          <text key={tick} x={at(tick)} y={44} textAnchor="middle" className="num fill-ink3 text-[11px]">
            {tick > 0 ? `+${tick}` : String(tick).replace("-", "\u2212")}
          </text>
        ))}
        {needle && (
          <line
            x1={at(needle.cents)}
            x2={at(needle.cents)}
            y1={2}
            y2={34}
            strokeWidth={4}
            strokeLinecap="round"
            opacity={needle.sounds ? 1 : 0.45}
            className={Math.abs(needle.cents) <= MIDDLE ? "stroke-act" : "stroke-mark"}
          />
        )}
      </svg>
      <span className={`num text-[26px] leading-tight ${needle?.sounds ? "text-ink" : "text-ink3"}`}>{says}</span>
    </div>
  );
}
