// The curve that lies between a source and what it drives: five places on it, each drawn up or down.
import { Popover } from "radix-ui";
import { type DrivenPoint } from "./routes";
import { CURVES } from "../model/driving";
import { curveAt } from "../model/panel";

const PLACES = [0, 0.25, 0.5, 0.75, 1];
const WIDTH = 34;
const HEIGHT = 16;

interface Props {
  points: DrivenPoint[];
  /** What it is of, within a sentence. */
  of: string;
  onSet: (points: DrivenPoint[]) => void;
}

export function CurveButton({ points, of, onSet }: Props) {
  const values = PLACES.map((at) => curveAt(points, at));
  const set = (next: number[]) => {
    const straight = next.every((value, n) => value === PLACES[n]);
    onSet(straight ? [] : next.map((value, n) => ({ at: PLACES[n]!, value })));
  };
  // What goes both ways has nothing in its middle.
  const least = values.some((value) => value < 0) ? -1 : 0;
  const high = (value: number) => (1 - value) / (1 - least);
  const line = (width: number, height: number) =>
    values.map((value, n) => `${(PLACES[n]! * width).toFixed(1)},${(high(value) * height).toFixed(1)}`).join(" ");
  return (
    <Popover.Root>
      <Popover.Trigger
        className="rounded-lg border border-edge bg-raised px-1.5 py-1.5"
        aria-label={`The curve by which ${of}`}
        title="The curve between the two"
      >
        <svg width={WIDTH} height={HEIGHT} aria-hidden className="block overflow-visible">
          <polyline points={line(WIDTH, HEIGHT)} fill="none" strokeWidth={2} className="stroke-act" />
        </svg>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          sideOffset={4}
          collisionPadding={8}
          aria-label="Curve"
          className="z-50 w-64 rounded-lg border border-line bg-raised p-3 text-[13px] shadow-lg"
        >
          <h4 className="mb-2 font-semibold">Curve</h4>
          <div className="relative h-28">
            <svg
              viewBox="0 0 100 100"
              preserveAspectRatio="none"
              aria-hidden
              className="absolute inset-x-[14px] inset-y-[7px] h-[calc(100%-14px)] w-[calc(100%-28px)]"
            >
              <polyline points={line(100, 100)} fill="none" strokeWidth={2} vectorEffect="non-scaling-stroke" className="stroke-act" />
            </svg>
            <div className="absolute inset-0 flex justify-between">
              {values.map((value, n) => (
                <input
                  key={n}
                  type="range"
                  min={least}
                  max={1}
                  step={0.01}
                  value={value}
                  aria-label={`At ${PLACES[n]! * 100} %`}
                  aria-valuetext={`${Math.round(value * 100)} %`}
                  className="h-full w-7 accent-act [direction:rtl] [writing-mode:vertical-lr]"
                  onChange={(event) => set(values.with(n, Number(event.target.value)))}
                />
              ))}
            </div>
          </div>
          <div className="mt-2 flex flex-wrap gap-1">
            {CURVES.map((curve) => (
              <button key={curve.name} className="button" onClick={() => set(curve.values)}>
                {curve.name}
              </button>
            ))}
          </div>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
