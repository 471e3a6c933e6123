// Several parts that are chosen: put in line, spread, coloured, grouped, copied, moved to another page, removed.
import type { Fact, InstrumentView } from "../api/client";
import { ALIGNS, aligned, COLOURS, type Driving, type Part } from "../model/panel";
import { Choice } from "../parts/Choice";
import { Written } from "../parts/Written";
import { sayPanel } from "../state/panel";
import { PartActs } from "./PartActs";

interface Props {
  view: InstrumentView;
  parts: Part[];
  drivings: Map<number, Driving[]>;
}

const DIFFER = "as they are";
const EVERY_PAGE = "every page";

export function SeveralCard({ view, parts, drivings }: Props) {
  const count = `${parts.length} parts`;
  const say = (label: string, fact: Fact, value: unknown) =>
    sayPanel(
      view,
      label,
      parts.map(({ id }) => ({ control: id, fact, value })),
    );
  const same = <T,>(of: (part: Part) => T): T | undefined =>
    parts.every((part) => of(part) === of(parts[0]!)) ? of(parts[0]!) : undefined;
  const page = same((part) => part.page);
  const colour = same((part) => part.colour);
  const group = same((part) => part.group);
  return (
    <>
      <div>
        <h3 className="text-[15px] font-semibold">{count}</h3>
        <p className="truncate text-[12px] text-ink3">{parts.map(({ name }) => name).join(", ")}</p>
      </div>
      <section className="card flex flex-wrap gap-2 p-3" aria-label="Where they stand">
        {ALIGNS.map(({ align, name }) => (
          <button
            key={align}
            className="button small"
            onClick={() => {
              const places = aligned(
                parts.map(({ place }) => place),
                align,
              );
              sayPanel(
                view,
                `put ${count}: ${name}`,
                parts.map(({ id }, n) => ({ control: id, fact: "part_place" as const, value: places[n] })),
              );
            }}
          >
            {name}
          </button>
        ))}
      </section>
      <section className="card grid grid-cols-2 gap-3 p-3" aria-label="What they share">
        <Choice
          label="On"
          value={page === undefined ? DIFFER : page === null ? EVERY_PAGE : String(page)}
          options={[
            ...(page === undefined ? [{ value: DIFFER, name: DIFFER }] : []),
            ...view.panel.pages.map(({ id, name }) => ({ value: String(id), name })),
            { value: EVERY_PAGE, name: EVERY_PAGE },
          ]}
          onChange={(next) => {
            if (next !== DIFFER) say(`put ${count} on another page`, "part_page", next === EVERY_PAGE ? null : Number(next));
          }}
        />
        <Choice
          label="Colour"
          value={colour === undefined ? DIFFER : (colour ?? "none")}
          options={[...(colour === undefined ? [DIFFER] : []), "none", ...COLOURS].map((value) => ({ value, name: value }))}
          onChange={(next) => {
            if (next !== DIFFER) say(`colour ${count}`, "part_colour", next === "none" ? null : next);
          }}
        />
        <Written
          label="Group"
          value={group ?? ""}
          placeholder={group === undefined ? "several" : "none"}
          onKeep={(text) => say(`group ${count}`, "part_group", text.trim() === "" ? null : text.trim())}
        />
      </section>
      <PartActs view={view} parts={parts} drivings={drivings} what={count} />
    </>
  );
}
