// What is beside a panel while no part of it is chosen: its page, sets of values, and the list of all parts.
import { useState } from "react";
import type { Fact, InstrumentView } from "../api/client";
import { COLOURS, freshName, hasValue, KINDS, type Page, type Part, type Preset } from "../model/panel";
import { ALWAYS, whenName, whenOptions } from "../model/shownWhen";
import { count, type Unit } from "../model/units";
import { AskName } from "../parts/Ask";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { Written } from "../parts/Written";
import { player, useSound } from "../sound/player";
import { sayPanel, usePanel } from "../state/panel";
import { PictureButton } from "./PartCard";

export function PageCard({ view, page, count: parts }: { view: InstrumentView; page: Page; count: number }) {
  const setPage = usePanel((state) => state.setPage);
  const say = (label: string, fact: Fact, value: unknown) => sayPanel(view, label, [{ page: page.id, fact, value }]);
  const { pages } = view.panel;
  const whens = whenOptions(view.panel, { shown_when: page.shown_when ?? null });
  const at = pages.findIndex(({ id }) => id === page.id);
  const move = (by: number) => {
    const order = pages.map(({ id }) => id);
    [order[at], order[at + by]] = [order[at + by]!, order[at]!];
    sayPanel(
      view,
      `move page ${page.name}`,
      order.map((id, n) => ({ page: id, fact: "page_place" as const, value: n })),
    );
  };
  return (
    <section className="card flex flex-col gap-3 p-3" aria-label="Page">
      <div className="flex items-end gap-3">
        <Written
          label="Page"
          place="grow"
          value={page.name}
          onKeep={(text) => {
            const name = text.trim();
            if (name === "" || name.length > 60) return false;
            say(`call page ${page.name} ${name}`, "page_name", name);
            return true;
          }}
        />
        <div className="w-28">
          <Choice
            label="Colour"
            value={page.colour ?? "none"}
            options={["none", ...COLOURS].map((value) => ({ value, name: value }))}
            onChange={(next) => say(`colour page ${page.name}`, "page_colour", next === "none" ? null : next)}
          />
        </div>
      </div>
      <Choice
        label="Shown when"
        value={whenName(view.panel, page.shown_when)}
        options={whens.map(({ name }) => ({ value: name, name }))}
        onChange={(next) => {
          const when = whens.find(({ name }) => name === next)?.when ?? null;
          say(next === ALWAYS ? `always show page ${page.name}` : `show page ${page.name} when ${next}`, "page_shown_when", when);
        }}
      />
      <div className="flex flex-wrap items-center gap-2">
        <PictureButton
          name={page.picture ? "Another picture…" : "A picture beneath…"}
          onKept={(hash) => say(`put a picture beneath ${page.name}`, "page_picture", hash)}
        />
        {page.picture && (
          <button className="button" onClick={() => say(`take the picture from ${page.name}`, "page_picture", null)}>
            No picture
          </button>
        )}
        <button className="button" disabled={at <= 0} aria-label="Move the page before the one before it" onClick={() => move(-1)}>
          ←
        </button>
        <button
          className="button"
          disabled={at < 0 || at >= pages.length - 1}
          aria-label="Move the page behind the one behind it"
          onClick={() => move(1)}
        >
          →
        </button>
        <span className="grow" />
        <button
          className="button"
          title={parts > 0 ? "What stands on it goes to the first page" : undefined}
          onClick={() => {
            say(`remove page ${page.name}`, "page_name", null);
            setPage(undefined);
          }}
        >
          Remove page
        </button>
      </div>
    </section>
  );
}

const midiProgram: Unit = { ...count, parse: (text) => (/^\d{1,3}$/.test(text.trim()) && +text >= 1 && +text <= 128 ? +text : undefined) };

/** Sets of values under names. */
export function PresetsCard({ view }: { view: InstrumentView }) {
  const { panel } = view;
  const [naming, setNaming] = useState(false);
  const controls = useSound((sound) => sound.controls);
  const values = panel.parts
    .filter(({ kind }) => hasValue(kind))
    .map((part) => ({ control: part.id, value: controls[part.id] ?? part.at_first }));
  const say = (preset: Preset, label: string, fact: Fact, value: unknown) => sayPanel(view, label, [{ preset: preset.id, fact, value }]);
  if (values.length === 0) return null;
  return (
    <section className="card flex flex-col gap-2 p-3" aria-label="Kept values">
      <h3>
        <b className="font-semibold">Kept values</b> <span className="text-[12px] text-ink3">of all controls, under a name</span>
      </h3>
      {panel.presets.map((preset) => (
        <div key={preset.id} className="flex items-center gap-2" role="group" aria-label={preset.name}>
          <button
            className="button small min-h-6 min-w-0 grow truncate text-left"
            title="All controls go there"
            onClick={() => player.recall(preset)}
          >
            {preset.name}
          </button>
          <div title="The MIDI program change that recalls it, 1 to 128">
            <Field
              label=""
              width="56px"
              value={preset.program ?? undefined}
              unit={midiProgram}
              onSet={(value) => say(preset, `recall ${preset.name} by program ${value}`, "preset_program", value)}
              onAutomatic={() => say(preset, `recall ${preset.name} by no program`, "preset_program", null)}
            />
          </div>
          <button
            className="min-h-6 text-[12px] text-ink2 hover:underline"
            title="It keeps what stands there now"
            onClick={() => say(preset, `keep ${preset.name} anew`, "preset_values", values)}
          >
            keep anew
          </button>
          <button
            className="size-6 rounded text-ink3 hover:text-ink"
            aria-label={`Remove ${preset.name}`}
            onClick={() => say(preset, `remove ${preset.name}`, "preset_name", null)}
          >
            ×
          </button>
        </div>
      ))}
      <button className="button small self-start" onClick={() => setNaming(true)}>
        Keep what stands now…
      </button>
      <AskName
        title="Keep these values as"
        open={naming}
        value=""
        onClose={() => setNaming(false)}
        onKeep={(name) => {
          const preset = freshName();
          sayPanel(view, `keep values as ${name}`, [
            { preset, fact: "preset_name", value: name.slice(0, 60) },
            { preset, fact: "preset_values", value: values },
          ]);
        }}
      />
    </section>
  );
}

/** All parts, in the order in which Tab reaches them. */
export function PartsList({ view }: { view: InstrumentView }) {
  const { choose, chosen, setPage, setArranging } = usePanel();
  const { panel } = view;
  if (panel.parts.length === 0) return null;
  const pageName = (part: Part) => panel.pages.find(({ id }) => id === part.page)?.name ?? "every page";
  const move = (n: number, by: number) => {
    const order = panel.parts.map(({ id }) => id);
    [order[n], order[n + by]] = [order[n + by]!, order[n]!];
    sayPanel(
      view,
      `list ${panel.parts[n]!.name} ${by < 0 ? "earlier" : "later"}`,
      order.map((id, place) => ({ control: id, fact: "part_order" as const, value: place })),
    );
  };
  return (
    <section className="card p-3" aria-label="All parts">
      <h3 className="mb-1">
        <b className="font-semibold">All parts</b> <span className="text-[12px] text-ink3">in the order of Tab</span>
      </h3>
      <ol>
        {panel.parts.map((part, n) => (
          <li key={part.id} className="flex min-h-7 items-center gap-2 border-t border-line2 first:border-t-0">
            <button
              className={`min-h-6 min-w-0 grow truncate rounded px-1 text-left hover:underline ${chosen.includes(part.id) ? "font-semibold" : ""}`}
              onClick={() => {
                if (part.page != null) setPage(part.page);
                choose([part.id]);
                setArranging(true);
              }}
            >
              {part.name}{" "}
              <span className="text-[11.5px] text-ink3">
                {KINDS.find(({ kind }) => kind === part.kind)?.name} · {pageName(part)}
                {part.group && ` · ${part.group}`}
              </span>
            </button>
            <button
              className="size-6 text-ink3 hover:text-ink disabled:opacity-40"
              disabled={n === 0}
              aria-label={`List ${part.name} earlier`}
              onClick={() => move(n, -1)}
            >
              ↑
            </button>
            <button
              className="size-6 text-ink3 hover:text-ink disabled:opacity-40"
              disabled={n === panel.parts.length - 1}
              aria-label={`List ${part.name} later`}
              onClick={() => move(n, 1)}
            >
              ↓
            </button>
          </li>
        ))}
      </ol>
    </section>
  );
}
