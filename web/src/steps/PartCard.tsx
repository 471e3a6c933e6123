// The part that is chosen: how it is called and read, what moves it, what it drives, and when it is shown.
import { useState } from "react";
import { answer, api, type InstrumentView } from "../api/client";
import { ALWAYS, whenName, whenOptions } from "../model/shownWhen";
import { COLOURS, type Driving, hasValue, KINDS, type Part, parsed, readingOf } from "../model/panel";
import { count, type Unit } from "../model/units";
import { wordsOf, wordsWishes } from "../model/words";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { Written } from "../parts/Written";
import { useLearning } from "../parts/learning";
import { sayPanel, usePanel } from "../state/panel";
import { sayError } from "../state/view";
import { PartActs } from "./PartActs";
import { DrivesCard } from "./PartDrives";
import { WordsCard } from "./PartWords";
import type { Fact } from "../api/client";

interface Props {
  view: InstrumentView;
  part: Part;
  drivings: Map<number, Driving[]>;
}

const EVERY_PAGE = "every page";

export function PartCard({ view, part, drivings }: Props) {
  const { learning, setLearning } = usePanel();
  const { panel, program } = view;
  const drives = drivings.get(part.id) ?? [];
  const kind = KINDS.find((one) => one.kind === part.kind)?.name ?? part.kind;
  const say = (label: string, fact: Fact, value: unknown) => sayPanel(view, label, [{ control: part.id, fact, value }]);
  const of = part.name;
  const isControl = hasValue(part.kind);
  useLearning(
    learning === part.id
      ? (controller) => {
          setLearning(undefined);
          say(`let controller ${controller} move ${of}`, "part_controller", controller);
        }
      : undefined,
  );
  const unit: Unit = {
    show: (v) => readingOf(program, part, v, drives),
    parse: (text) => parsed(program, part, text, drives),
    step: 0.05,
    fine: 0.005,
  };
  const controller: Unit = { ...count, parse: (text) => (/^\d{1,3}$/.test(text.trim()) && Number(text) < 120 ? Number(text) : undefined) };
  const as = part.shown_as;
  const shown = typeof as === "string" ? as : "words" in as ? "words" : "between";
  const whens = whenOptions(panel, part);
  return (
    <>
      <div>
        <h3 className="text-[15px] font-semibold">{of}</h3>
        <p className="text-[12px] text-ink3">
          a {kind}
          {part.controller != null && ` · controller ${part.controller}`}
        </p>
      </div>
      <section className="card flex flex-col gap-3 p-3" aria-label="How it is called">
        <Written
          label="Label"
          value={part.name}
          onKeep={(text) => {
            const name = text.trim();
            if (name === "" || name.length > 60) return false;
            say(`call ${of} ${name}`, "part_name", name);
            return true;
          }}
        />
        {isControl && (
          <div className="flex items-end gap-3">
            <div className="w-32">
              <Choice
                label="Shown as"
                value={shown}
                options={[
                  { value: "share", name: "share" },
                  { value: "driven", name: "what it drives" },
                  { value: "between", name: "a number" },
                  { value: "words", name: "words" },
                ]}
                onChange={(next) =>
                  say(
                    `show ${of} otherwise`,
                    "part_shown_as",
                    next === "between" ? { between: { low: 0, high: 10, unit: "" } } : next === "words" ? { words: ["off", "on"] } : next,
                  )
                }
              />
            </div>
            <Field
              label="At first"
              width="96px"
              value={part.at_first}
              unit={unit}
              onSet={(value) => say(`set where ${of} stands at first`, "part_at_first", Math.min(1, Math.max(0, value)))}
            />
            <Field
              label="Controller"
              width="76px"
              value={part.controller ?? undefined}
              unit={controller}
              onSet={(value) => say(`let controller ${value} move ${of}`, "part_controller", value)}
              onAutomatic={() => say(`let no controller move ${of}`, "part_controller", null)}
            />
          </div>
        )}
        {isControl && typeof as === "object" && "between" in as && (
          <Between as={as.between} onSet={(next) => say(`show ${of} otherwise`, "part_shown_as", { between: next })} />
        )}
        {isControl && typeof as === "object" && "words" in as && (
          <Written
            label="Its words, from least to most"
            value={as.words.join(", ")}
            onKeep={(text) => {
              const words = text
                .split(",")
                .map((word) => word.trim())
                .filter((word) => word !== "");
              if (words.length < 2 || words.length > 16) {
                sayError(new Error("A choice has 2 to 16 words, with commas between."));
                return false;
              }
              sayPanel(view, `set the words of ${of}`, [
                { control: part.id, fact: "part_shown_as", value: { words } },
                ...wordsWishes(program, part, words),
              ]);
              return true;
            }}
          />
        )}
        {(part.kind === "text" || part.kind === "picture") && (
          <label>
            <span className="field-label">{part.kind === "text" ? "What it says" : "What it shows, for those who do not see it"}</span>
            <TextArea value={part.text} onKeep={(text) => say(`write ${of}`, "part_text", text)} />
          </label>
        )}
        {part.kind === "picture" && (
          <PictureButton
            onKept={(hash) => say(`put a picture on ${of}`, "part_picture", hash)}
            name={part.picture ? "Another picture…" : "Choose a picture…"}
          />
        )}
        {part.kind === "course" && (
          <Choice
            label="Whose loudness"
            value={String(part.strand ?? program.strands[0]?.id)}
            options={program.strands.map(({ id, name }) => ({ value: String(id), name }))}
            onChange={(next) => say(`draw another strand on ${of}`, "part_strand", Number(next))}
          />
        )}
      </section>
      {part.kind === "choice" && wordsOf(part) && <WordsCard view={view} part={part} />}
      {isControl && <DrivesCard view={view} part={part} drives={drives} />}
      {isControl && (
        <div className="flex items-center gap-2">
          <button
            className={`button ${learning === part.id ? "on" : ""}`}
            aria-pressed={learning === part.id}
            title="The next MIDI controller that moves is its own"
            onClick={() => setLearning(learning === part.id ? undefined : part.id)}
          >
            {learning === part.id ? "Move a controller…" : "Learn"}
          </button>
        </div>
      )}
      <section className="card grid grid-cols-2 gap-3 p-3" aria-label="Where it stands">
        <Choice
          label="Shown when"
          value={whenName(panel, part.shown_when)}
          options={whens.map(({ name }) => ({ value: name, name }))}
          onChange={(next) => {
            const when = whens.find(({ name }) => name === next)?.when ?? null;
            say(next === ALWAYS ? `always show ${of}` : `show ${of} when ${next}`, "part_shown_when", when);
          }}
        />
        <Choice
          label="On"
          value={part.page == null ? EVERY_PAGE : String(part.page)}
          options={[...panel.pages.map(({ id, name }) => ({ value: String(id), name })), { value: EVERY_PAGE, name: EVERY_PAGE }]}
          onChange={(next) => say(`put ${of} on another page`, "part_page", next === EVERY_PAGE ? null : Number(next))}
        />
        <Choice
          label="Colour"
          value={part.colour ?? "none"}
          options={["none", ...COLOURS].map((value) => ({ value, name: value }))}
          onChange={(next) => say(`colour ${of}`, "part_colour", next === "none" ? null : next)}
        />
        <Written
          label="Group"
          value={part.group ?? ""}
          placeholder="none"
          onKeep={(text) => say(`group ${of}`, "part_group", text.trim() === "" ? null : text.trim())}
        />
      </section>
      <PartActs view={view} parts={[part]} drivings={drivings} what={of} />
    </>
  );
}

interface BetweenProps {
  as: { low: number; high: number; unit: string };
  onSet: (as: BetweenProps["as"]) => void;
}

function Between({ as, onSet }: BetweenProps) {
  const number: Unit = {
    ...count,
    parse: (text) => (Number.isFinite(Number(text.replace("−", "-"))) ? Number(text.replace("−", "-")) : undefined),
  };
  return (
    <div className="flex items-end gap-3">
      <Field label="From" width="76px" value={as.low} unit={number} onSet={(low) => onSet({ ...as, low })} />
      <Field label="To" width="76px" value={as.high} unit={number} onSet={(high) => onSet({ ...as, high })} />
      <Written label="Unit" value={as.unit} place="w-20" onKeep={(text) => onSet({ ...as, unit: text.trim().slice(0, 12) })} />
    </div>
  );
}

function TextArea({ value, onKeep }: { value: string; onKeep: (text: string) => void }) {
  const [text, setText] = useState(value);
  return (
    <textarea
      className="written h-20 resize-y"
      value={text}
      onChange={(event) => setText(event.target.value)}
      onBlur={() => text.trim() !== "" && text !== value && onKeep(text)}
      onKeyDown={(event) => event.stopPropagation()}
    />
  );
}

/** Chooses a picture from this machine, and keeps it. */
export function PictureButton({ name, onKept }: { name: string; onKept: (hash: string) => void }) {
  const keep = async (file: File) => {
    const kept = answer(
      await api.POST("/api/pictures", {
        body: file as never,
        bodySerializer: (body: unknown) => body as BodyInit,
        headers: { "content-type": "application/octet-stream" },
      }),
    );
    onKept(kept.hash);
  };
  return (
    <label className="button w-fit cursor-pointer focus-within:outline-2">
      {name}
      <input
        type="file"
        accept="image/png,image/jpeg,image/webp,image/svg+xml"
        className="sr-only"
        onChange={(event) => {
          const file = event.target.files?.[0];
          event.target.value = "";
          if (file) void keep(file).catch(sayError);
        }}
      />
    </label>
  );
}
