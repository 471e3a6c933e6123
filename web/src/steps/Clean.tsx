// What alters the samples of all chosen takes: each stage off at first, with before, after and what it takes away to listen to.
import type { Fact, Schemas, TakeView } from "../api/client";
import { change } from "../state/edits";
import { decibels, hertz, percent, ratio, share, type Unit, signed } from "../model/units";
import type { OnBench } from "../parts/Bench";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { type NumberOf, Numbers } from "../parts/Numbers";
import { player } from "../sound/player";
import { sayError, useView } from "../state/view";

type Cleaning = Schemas["Cleaning"];
type Stage = Exclude<keyof Cleaning, "channels" | "remove_dc">;
type Settings = Record<string, number | null>;

/** In the order in which they are done. */
const STAGES: { stage: Stage; fact: Fact; name: string; says: string; first: Settings; numbers: NumberOf<Settings>[] }[] = [
  {
    stage: "high_pass",
    fact: "high_pass",
    name: "High-pass",
    says: "takes rumble out",
    first: { hz: 40, db_per_octave: 24 },
    numbers: [{ of: "hz", label: "From", unit: hertz, low: 10, high: 2000 }],
  },
  {
    stage: "hum",
    fact: "hum",
    name: "Hum",
    says: "found in the take's silence, and notched with its partials",
    first: { hz: null },
    numbers: [],
  },
  {
    stage: "hiss",
    fact: "hiss",
    name: "Hiss",
    says: "by the spectrum of the take's own silence, else the room's",
    first: { reduction_db: 12 },
    numbers: [{ of: "reduction_db", label: "Lowered by", unit: decibels, low: 0, high: 40 }],
  },
  {
    stage: "expander",
    fact: "expander",
    name: "Expander",
    says: "lets the tail fall away under the noise",
    first: { over_floor_db: 8, ratio: 1.5 },
    numbers: [
      { of: "over_floor_db", label: "Over the floor", unit: decibels, low: 0, high: 40 },
      { of: "ratio", label: "Ratio", unit: ratio, low: 1, high: 4 },
    ],
  },
  {
    stage: "compressor",
    fact: "compressor",
    name: "Compressor",
    says: "draws loud and quiet together",
    first: { threshold_dbfs: -24, ratio: 2 },
    numbers: [
      { of: "threshold_dbfs", label: "From", unit: decibels, low: -60, high: 0 },
      { of: "ratio", label: "Ratio", unit: ratio, low: 1, high: 10 },
    ],
  },
  {
    stage: "evening",
    fact: "evening",
    name: "Evening",
    says: "holds level and colour over the loop",
    first: { share: 1 },
    numbers: [{ of: "share", label: "Of the drift", unit: share, low: 0, high: 1 }],
  },
  {
    stage: "limiter",
    fact: "limiter",
    name: "Limiter",
    says: "no true peak is over",
    first: { ceiling_dbtp: -1 },
    numbers: [{ of: "ceiling_dbtp", label: "Ceiling", unit: decibels, low: -24, high: 0 }],
  },
];

type Sides = Schemas["Sides"];

const SIDES: { value: Sides; name: string }[] = [
  { value: "both", name: "left and right" },
  { value: "sum", name: "mono: their mean" },
  { value: "left", name: "mono: the left one" },
  { value: "right", name: "mono: the right one" },
  { value: "swapped", name: "exchanged" },
];
const SLOPES = [12, 24, 36, 48].map((slope) => ({ value: String(slope), name: `${slope} dB an octave` }));
const MAINS = [
  { value: "found", name: "as found" },
  { value: "50", name: "50 Hz" },
  { value: "60", name: "60 Hz" },
];
const panned: Unit = {
  ...share,
  show: (v) => (Math.abs(v) < 0.005 ? "middle" : `${Math.abs(Math.round(v * 100))} % ${v < 0 ? "left" : "right"}`),
  parse: parsePan,
};

export function Clean({ on }: { on: OnBench }) {
  const { take, takes, view } = on;
  const cleaning = take.treatment!.cleaning ?? {};
  const many = takes.length > 1 ? ` on ${takes.length} takes` : "";
  const set = (label: string, fact: Fact, value: unknown) =>
    void change(
      view.id,
      `${label}${many}`,
      takes.map((t) => ({ take: t.id, fact, value })),
    ).catch(sayError);
  const channels = cleaning.channels;
  const { sides, setSides } = useView();
  return (
    <section className="card flex flex-col p-3" aria-label="Cleaning" data-part="cleaning">
      <div className="flex items-center gap-2 pb-1">
        <b className="font-semibold">{takes.length > 1 ? `All ${takes.length} chosen` : "This take"}</b>
        <span className="min-w-0 flex-1 truncate text-ink3">in this order; the recording stays as it is</span>
        <Heard take={take} />
      </div>
      {take.channels === 2 && (
        <div className="flex items-end gap-3 border-t border-line2 py-1">
          <div className="w-44">
            <Choice<Sides>
              label="Sides"
              value={channels?.sides ?? "both"}
              onChange={(sides) =>
                set(
                  "change the sides",
                  "channels",
                  sides === "both" && (channels?.width ?? 1) === 1 ? undefined : { sides, width: channels?.width ?? 1 },
                )
              }
              options={SIDES}
            />
          </div>
          <Field
            label="Width"
            width="80px"
            value={channels?.width ?? 1}
            unit={share}
            byHand={channels != null && channels.width !== 1}
            onSet={(v) => set("change the width", "channels", { sides: channels?.sides ?? "both", width: Math.min(2, Math.max(0, v)) })}
            onAutomatic={() =>
              set("width as recorded", "channels", channels && channels.sides !== "both" ? { ...channels, width: 1 } : undefined)
            }
          />
          <Field
            label="Pan"
            width="80px"
            value={take.treatment!.pan ?? 0}
            unit={panned}
            byHand={take.correction.pan != null}
            onSet={(v) => set("move between left and right", "pan", Math.min(1, Math.max(-1, v)))}
            onAutomatic={() => set("pan back to the middle", "pan", undefined)}
          />
          <button
            className="num pb-1.5 text-left text-[12px] text-ink3 underline decoration-line"
            data-part="sides"
            title="Which of both stands beside the board"
            onClick={() => setSides(sides === "balance" ? "likeness" : "balance")}
          >
            {take.levels?.balance_db == null
              ? ""
              : `left over right ${decibels.show(take.levels.balance_db)} · likeness ${signed(take.levels.correlation ?? 0, 2)}`}
          </button>
        </div>
      )}
      <Row
        name="DC"
        says="takes the mean out"
        stage="remove_dc"
        take={take}
        is={cleaning.remove_dc ?? false}
        onToggle={(is) => set(is ? "take DC out" : "leave DC in", "remove_dc", is ? true : undefined)}
      />
      {STAGES.map(({ stage, fact, name, says, first, numbers }) => {
        const now = cleaning[stage] as Settings | null | undefined;
        const put = (settings: Settings | undefined) =>
          set(settings ? `${name.toLowerCase()}` : `no ${name.toLowerCase()}`, fact, settings);
        return (
          <Row
            key={stage}
            name={name}
            stage={stage}
            take={take}
            says={stage === "evening" && !take.treatment!.loop ? "needs a loop" : says}
            is={now != null}
            onToggle={(is) => put(is ? first : undefined)}
          >
            {now && <Numbers numbers={numbers} values={now} byHand width="92px" onSet={put} />}
            {now && stage === "high_pass" && (
              <div className="w-36">
                <Choice
                  label="Slope"
                  value={String(now.db_per_octave)}
                  onChange={(slope) => put({ ...now, db_per_octave: Number(slope) })}
                  options={SLOPES}
                />
              </div>
            )}
            {now && stage === "hum" && (
              <div className="w-36">
                <Choice
                  label="Mains"
                  value={now.hz == null ? "found" : String(now.hz)}
                  onChange={(hz) => put({ hz: hz === "found" ? null : Number(hz) })}
                  options={MAINS}
                />
              </div>
            )}
          </Row>
        );
      })}
    </section>
  );
}

function parsePan(text: string): number | undefined {
  if (/^\s*(m|middle|centre|0)\s*$/i.test(text)) return 0;
  const side = /(l|left|r|right)\s*$/i.exec(text)?.[1]?.toLowerCase();
  const share = percent.parse(text.replace(/(left|right|l|r)\s*$/i, ""));
  if (share === undefined) return undefined;
  return (side?.startsWith("l") ? -1 : 1) * (share / 100);
}

function Row({
  name,
  says,
  stage,
  take,
  is,
  onToggle,
  children,
}: {
  name: string;
  says: string;
  stage: Schemas["Stage"];
  take: TakeView;
  is: boolean;
  onToggle: (is: boolean) => void;
  children?: React.ReactNode;
}) {
  return (
    <div className="flex min-h-[32px] items-end gap-3 border-t border-line2 py-[3px]">
      <button role="switch" aria-checked={is} className={`button w-28 !py-[3px] text-left ${is ? "on" : ""}`} onClick={() => onToggle(!is)}>
        {name}
      </button>
      {children}
      <span className="min-w-0 flex-1 truncate pb-1 text-ink3">{says}</span>
      {is && (
        <span className="flex gap-1" role="group" aria-label={`Listen to ${name}`}>
          <button
            className="button !py-[3px]"
            title="All the others, without this one"
            onClick={() => void player.hearTake(take, "cleaned", stage).catch(sayError)}
          >
            Without it
          </button>
          <button
            className="button !py-[3px]"
            title="What this one takes away of what those before it leave"
            onClick={() => void player.hearTake(take, "away", stage).catch(sayError)}
          >
            What it takes
          </button>
        </span>
      )}
    </div>
  );
}

/** Before, after, and what is taken away. */
function Heard({ take }: { take: TakeView }) {
  const versions = [
    ["raw", "Before"],
    ["cleaned", "After"],
    ["away", "What is taken away"],
  ] as const;
  return (
    <div className="flex gap-1" role="group" aria-label="Listen">
      {versions.map(([version, name]) => (
        <button
          key={version}
          className="button !py-1"
          disabled={version !== "raw" && !take.cleaned}
          onClick={() => void player.hearTake(take, version).catch(sayError)}
        >
          {name}
        </button>
      ))}
      <button className="button !py-1" aria-label="Stop listening" onClick={() => void player.hear(undefined)}>
        ■
      </button>
    </div>
  );
}
