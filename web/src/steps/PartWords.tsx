// What the words of a choice choose: where a route comes from, and where it goes.
import type { InstrumentView } from "../api/client";
import { routeSaid, same, type Source, sourceName, sourcesOf } from "../model/driving";
import type { Drivable, Part } from "../model/panel";
import type { Wish } from "../model/edited";
import { gate, wordDrivables, type WordRoute, wordRoutes, wordsOf } from "../model/words";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { Menu } from "../parts/Menu";
import { sayPanel } from "../state/panel";
import { freshPart } from "../model/driving";

/** What a route comes from at first: the wheel. */
const FIRST: Source = { controller: 1 };

export function WordsCard({ view, part }: { view: InstrumentView; part: Part }) {
  const words = wordsOf(part) ?? [];
  const { program } = view;
  const routes = wordRoutes(program, part);
  const all = wordDrivables(program);
  const several = program.strands.length > 1 ? [...new Set(all.map(({ driven }) => driven.name))] : [];
  const add = (word: number, what: string, of: Drivable[]) => {
    // What the other words lead from is the likelier one.
    const from = routes.find((one) => one.word !== word)?.from ?? FIRST;
    sayPanel(
      view,
      `let ${words[word]} of ${part.name} lead to ${what}`,
      of.flatMap(({ own, driven, beside }): Wish[] => [
        {
          part: ["route", own, freshPart()],
          fact: "route",
          value: { from: { control: part.id }, times: from, curve: gate(word, words.length), to: driven.to, amount: driven.first },
        },
        ...(beside ?? []),
      ]),
    );
  };
  return (
    <section className="flex flex-col gap-2" aria-label="Its words choose">
      <h4 className="field-label">Its words choose where a route comes from, and where it goes</h4>
      {words.map((word, n) => (
        <div key={n} className="card flex flex-col gap-1.5 p-2.5" role="group" aria-label={word}>
          <div className="flex items-center gap-2">
            <b className="min-w-0 grow truncate font-semibold">{word}</b>
            <Menu
              align="end"
              className="button"
              button="+ a route"
              acts={[
                ...several.map((name) => ({
                  name: `to ${name} of all strands`,
                  begin: () =>
                    add(
                      n,
                      `${name} of all strands`,
                      all.filter(({ driven }) => driven.name === name),
                    ),
                })),
                ...all.map((one) => ({
                  name: `to ${one.driven.name} of ${one.of}`,
                  begin: () => add(n, `${one.driven.name} of ${one.of}`, [one]),
                })),
              ]}
            />
          </div>
          {routes
            .filter((one) => one.word === n)
            .map((one) => (
              <OfWord key={`${one.own} ${one.route.id}`} view={view} part={part} word={word} one={one} />
            ))}
          {routes.every((one) => one.word !== n) && <p className="text-[12px] text-ink3">no route</p>}
        </div>
      ))}
    </section>
  );
}

function OfWord({ view, part, word, one }: { view: InstrumentView; part: Part; word: string; one: WordRoute }) {
  const { program } = view;
  const { own, route, from, driven, of } = one;
  const shape = program.shapes.find(({ id }) => id === program.strands.find((strand) => strand.id === own)?.shape);
  const moved = { movements: shape?.movements ?? [], controls: program.controls.filter(({ id }) => id !== part.id) };
  const sources = sourcesOf(moved, from);
  const what = `${driven.name} of ${of}`;
  const say = (label: string, value: unknown) => sayPanel(view, label, [{ part: ["route", own, route.id], fact: "route", value }]);
  return (
    <div className="flex items-end gap-2" role="group" aria-label={`${word}: ${what}`}>
      <div className="min-w-0 grow">
        <Choice
          label="from"
          value={String(sources.findIndex((source) => same(source, from)))}
          options={sources.map((source, n) => ({ value: String(n), name: sourceName(source, moved) }))}
          onChange={(next) =>
            say(
              `let ${word} of ${part.name} come from ${sourceName(sources[Number(next)]!, moved)}`,
              routeSaid(program, route, { times: sources[Number(next)]! }),
            )
          }
        />
      </div>
      <Field
        label={`to ${what}, by`}
        width="130px"
        value={route.amount}
        unit={driven.unit}
        onSet={(amount) =>
          say(
            `set how far ${word} of ${part.name} goes`,
            routeSaid(program, route, { amount: Math.max(-driven.most, Math.min(driven.most, amount)) }),
          )
        }
      />
      <button
        className="mb-1 rounded px-1.5 text-ink3 hover:text-ink"
        aria-label={`No route from ${word} to ${what}`}
        onClick={() => say(`let ${word} of ${part.name} lead to ${what} no longer`, null)}
      >
        ×
      </button>
    </div>
  );
}
