// A part of the panel, as it is played.
import { RadioGroup, Slider, Switch } from "radix-ui";
import { memo, useContext, useEffect, useState } from "react";
import type { InstrumentView } from "../api/client";
import { type Driving, doesWhat, type Part, parsed, readingOf, valueOfWord, wordAt } from "../model/panel";
import { player, useSound } from "../sound/player";
import { loudnessCourse } from "../sound/unheard";
import { sayError } from "../state/view";
import { Keyboard } from "./Keyboard";
import { PictureAt } from "./pictures";

/** Where a control stands. */
export const useValue = (part: Part): number => useSound(({ controls }) => controls[part.id]) ?? part.at_first;

interface Props {
  /** Whose it is. */
  id: number;
  program: InstrumentView["program"];
  part: Part;
  drives: Driving[];
}

export const PanelPart = memo(function PanelPart(props: Props) {
  const { part } = props;
  switch (part.kind) {
    case "slider":
      return <SliderPart {...props} />;
    case "number":
      return <NumberPart {...props} />;
    case "switch":
      return <SwitchPart {...props} />;
    case "choice":
      return <ChoicePart {...props} />;
    case "text":
      return <p className="h-full overflow-hidden px-1 whitespace-pre-line text-ink2">{part.text || part.name}</p>;
    case "picture":
      return <PicturePart part={part} />;
    case "meter":
      return <MeterPart {...props} />;
    case "course":
      return <CoursePart {...props} />;
    case "keyboard":
      return <Keyboard program={props.program} />;
  }
});

function PicturePart({ part }: { part: Part }) {
  const pictureAt = useContext(PictureAt);
  const picture = part.picture ? pictureAt(part.picture) : undefined;
  return picture ? (
    <img src={picture} alt={part.text || part.name} className="size-full rounded-lg object-cover" draggable={false} />
  ) : (
    <p className="grid size-full place-items-center rounded-lg border border-dashed border-edge text-ink3">{part.name}</p>
  );
}

const set = (part: Part, value: number) => player.control(part.id, Math.min(1, Math.max(0, value)));

/** A value that is read, and typed. */
function Reading({ program, part, drives }: Omit<Props, "id">) {
  const value = useValue(part);
  const shown = readingOf(program, part, value, drives);
  const [typed, setTyped] = useState<string>();
  const keep = () => {
    if (typed === undefined || typed === shown) return setTyped(undefined);
    const next = parsed(program, part, typed, drives);
    if (next === undefined) sayError(new Error(`«${typed}» is not understood as ${part.name}; ${shown} was kept.`));
    else set(part, next);
    setTyped(undefined);
  };
  return (
    <input
      className="num w-24 min-w-0 rounded border border-transparent bg-transparent text-right hover:border-edge"
      aria-label={`${part.name}, value`}
      value={typed ?? shown}
      spellCheck={false}
      autoComplete="off"
      onFocus={(event) => event.currentTarget.select()}
      onChange={(event) => setTyped(event.target.value)}
      onBlur={keep}
      onKeyDown={(event) => {
        if (event.key === "Enter") event.currentTarget.blur();
        else if (event.key === "Escape") setTyped(undefined);
        else if (event.key === "ArrowUp" || event.key === "ArrowDown") {
          event.preventDefault();
          set(part, value + (event.key === "ArrowUp" ? 1 : -1) * (event.altKey ? 0.001 : 0.01));
        }
        event.stopPropagation();
      }}
    />
  );
}

function Name({ part, grow }: { part: Part; grow?: boolean }) {
  return <span className={`min-w-0 truncate font-semibold ${grow ? "grow" : ""}`}>{part.name}</span>;
}

function SliderPart({ program, part, drives }: Props) {
  const value = useValue(part);
  return (
    <div className="flex size-full flex-col justify-center px-2.5">
      <div className="flex items-baseline gap-2">
        <Name part={part} grow />
        <Reading program={program} part={part} drives={drives} />
      </div>
      <Slider.Root
        className="relative flex h-6 touch-none items-center select-none"
        min={0}
        max={1}
        step={0.005}
        value={[value]}
        onValueChange={([next]) => set(part, next!)}
        onDoubleClick={() => set(part, part.at_first)}
        title="A double click brings back the value at first"
      >
        <Slider.Track className="relative h-1.5 grow rounded bg-line">
          <Slider.Range className="absolute h-full rounded bg-act" />
        </Slider.Track>
        <Slider.Thumb
          className="grid size-6 place-items-center rounded-full after:size-3.5 after:rounded-full after:border-2 after:border-act after:bg-raised"
          aria-label={part.name}
          aria-valuetext={readingOf(program, part, value, drives)}
        />
      </Slider.Root>
      <p className="truncate text-[11px] text-ink3">{doesWhat(program, drives) || "drives nothing yet"}</p>
    </div>
  );
}

function NumberPart({ program, part, drives }: Props) {
  return (
    <div className="flex size-full flex-col justify-center px-2.5" onDoubleClick={() => set(part, part.at_first)}>
      <Name part={part} />
      <Reading program={program} part={part} drives={drives} />
    </div>
  );
}

function SwitchPart({ program, part, drives }: Props) {
  const value = useValue(part);
  const on = value >= 0.5;
  return (
    <label className="flex size-full items-center gap-2 px-2.5">
      <Name part={part} grow />
      <span className="text-[12px] text-ink2">{readingOf(program, part, on ? 1 : 0, drives)}</span>
      <Switch.Root
        className="relative h-4 w-7 shrink-0 rounded-full bg-edge data-[state=checked]:bg-act"
        aria-label={part.name}
        checked={on}
        onCheckedChange={(next) => set(part, next ? 1 : 0)}
      >
        <Switch.Thumb className="block size-3 translate-x-0.5 rounded-full bg-raised data-[state=checked]:translate-x-3.5" />
      </Switch.Root>
    </label>
  );
}

const SOME_WORDS = ["off", "on"];

function ChoicePart({ part }: Props) {
  const value = useValue(part);
  const words = typeof part.shown_as === "object" && "words" in part.shown_as ? part.shown_as.words : SOME_WORDS;
  return (
    <div className="flex size-full flex-col justify-center gap-1 px-2.5">
      <Name part={part} />
      <RadioGroup.Root
        aria-label={part.name}
        className="flex w-fit max-w-full overflow-hidden rounded-lg border border-edge"
        value={String(wordAt(words, value))}
        onValueChange={(next) => set(part, valueOfWord(words, Number(next)))}
      >
        {words.map((word, n) => (
          <RadioGroup.Item
            key={n}
            value={String(n)}
            className="min-w-0 truncate border-l border-edge bg-raised px-2.5 py-0.5 font-medium first:border-l-0 data-[state=checked]:bg-act-soft"
          >
            {word}
          </RadioGroup.Item>
        ))}
      </RadioGroup.Root>
    </div>
  );
}

/** A share of a meter's way: −60 dB to 0. */
const share = (peak: number) => (peak > 1e-3 ? Math.min(1, 1 + (20 * Math.log10(peak)) / 60) : 0);

function MeterPart({ part }: Props) {
  const [left, right] = useSound(({ meter }) => meter.sides);
  return (
    <div className="flex size-full flex-col justify-center gap-1 px-2.5" data-part="level meter" data-left={left} data-right={right}>
      <Name part={part} />
      {[left, right].map((peak, side) => (
        <div key={side} className="relative h-2 overflow-hidden rounded bg-line">
          <div className={`h-full rounded ${peak >= 1 ? "bg-mark" : "bg-act"}`} style={{ width: `${100 * share(peak)}%` }} />
          <div className="absolute inset-y-0 left-[90%] w-px bg-ink" title="−6 dB" />
        </div>
      ))}
    </div>
  );
}

/** What is shown of a course: so long a key is held, so long it is looked at, and how often. */
const HELD_MS = 2_000;
const STEP_MS = 20;
const VALUES = 300;
const HEIGHT = 100;
/** Decibels that are drawn. */
const LOWEST_DB = -60;

/** Loudness over time as the engine runs it with the controls as they stand: rising, falling, held and let go. */
function CoursePart({ id, program, part }: Props) {
  const controls = useSound((sound) => sound.controls);
  const strand = program.strands.find((one) => one.id === part.strand) ?? program.strands[0];
  const [course, setCourse] = useState<Float32Array>();
  useEffect(() => {
    if (strand === undefined) return;
    let stays = true;
    const asked = { strand: strand.id, controls, heldMs: HELD_MS, stepMs: STEP_MS, values: VALUES };
    void loudnessCourse(id, program, asked)
      .then((next) => stays && setCourse(next))
      .catch(sayError);
    return () => {
      stays = false;
    };
  }, [id, program, strand, controls]);
  if (!course) return <p className="px-2.5 py-1.5 font-semibold">{part.name}</p>;
  const y = (db: number) => Math.min(HEIGHT, (HEIGHT * db) / LOWEST_DB);
  const points = [...course].map((db, n) => `${n},${y(db).toFixed(1)}`).join(" ");
  const full = Math.max(...course.subarray(0, HELD_MS / STEP_MS));
  const up = course.findIndex((db) => db >= full - 0.1) * STEP_MS;
  const gone = course.findIndex((db, n) => n >= HELD_MS / STEP_MS && db <= LOWEST_DB);
  const rings = gone < 0 ? `longer than ${(VALUES * STEP_MS - HELD_MS) / 1000} s` : plainTime(gone * STEP_MS - HELD_MS);
  return (
    <div className="flex size-full flex-col gap-1 px-2.5 py-1.5">
      <span className="truncate font-semibold">{part.name}</span>
      <svg
        viewBox={`0 0 ${VALUES} ${HEIGHT}`}
        preserveAspectRatio="none"
        className="min-h-0 grow"
        role="img"
        aria-label={`Loudness of ${strand?.name}: full after ${plainTime(up)}, silent after its key ${rings}`}
      >
        <line x1={HELD_MS / STEP_MS} x2={HELD_MS / STEP_MS} y1={0} y2={HEIGHT} vectorEffect="non-scaling-stroke" className="stroke-edge" />
        <polyline points={points} fill="none" strokeWidth={2} vectorEffect="non-scaling-stroke" className="stroke-act" />
      </svg>
    </div>
  );
}

const plainTime = (ms: number) => (ms < 1000 ? `${ms} ms` : `${ms / 1000} s`);
