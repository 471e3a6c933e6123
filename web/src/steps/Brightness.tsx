// Brightness: a filter, its course over time, and what it follows.
import { BRIGHTNESS, BRIGHTNESS_DRIVEN, FORMS } from "../model/driving";
import { fitted } from "../model/ranges";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { DrivenCourseCard } from "./DrivenCourse";
import { Follows } from "./Follows";
import { isHuman } from "./Human";
import { drive, hasRoom, hearEach, sayEach, sayOf, type Shape, type Shaped, toPanel } from "./routes";
import { FILTER, type FilterNumber, THEY_DIFFER } from "./shapeFacts";
import type { FilterFact } from "../model/driving";

export function BrightnessCard({ shaped }: { shaped: Shaped }) {
  const { of, shape, whose } = shaped;
  const { filter } = shape;
  const say = (fact: FilterFact, value: unknown, label: string) => sayOf(shaped, label, [[fact, value]]);
  const byHand = (fact: FilterFact) => of[0]!.byHand.includes(fact);
  // One that has no filter has no number to be changed.
  const numberOf = (number: FilterNumber, shape: Shape) => shape.filter?.[number.of] ?? filter?.[number.of] ?? 0;
  const differs = (number: FilterNumber) => of.some((one) => numberOf(number, one.shape) !== numberOf(number, shape));
  const moved = (number: FilterNumber, diff: number) => (one: Shape) => fitted(number, numberOf(number, one) + diff);
  const by = (number: FilterNumber, diff: number) =>
    sayEach(shaped, `change ${number.label.toLowerCase()} of ${whose}`, number.fact, moved(number, diff));
  const acts = (number: FilterNumber) => {
    const driven = hasRoom(shape, "route") ? BRIGHTNESS_DRIVEN.find(({ name }) => number.of.startsWith(name)) : undefined;
    const onControl = driven && "strand" in of[0]!.target ? () => toPanel(shaped, driven) : undefined;
    return driven && { onDrive: () => drive(shaped, driven), onControl };
  };
  return (
    <section className="card flex flex-col gap-3 p-3" aria-label="Brightness" data-part="brightness">
      <div className="flex flex-wrap items-end gap-3">
        <h3 className="pb-1.5">
          <b className="font-semibold">Brightness</b>
        </h3>
        <div className="w-44">
          <Choice
            label="Filter"
            value={filter ? `${filter.passes} ${filter.poles}` : "none"}
            options={FORMS}
            onChange={(next) => {
              const chosen = FORMS.find(({ value }) => value === next)!;
              say("filter_form", chosen.form, chosen.form ? `filter ${whose}: ${chosen.name}` : `take the filter of ${whose} away`);
            }}
          />
        </div>
        {filter &&
          FILTER.map((number) => (
            <div key={number.fact} title={differs(number) ? THEY_DIFFER : number.says}>
              <Field
                label={differs(number) ? `${number.label} ≠` : number.label}
                width="96px"
                value={filter[number.of]}
                unit={number.unit}
                byHand={byHand(number.fact as FilterFact)}
                onLive={(v) =>
                  hearEach(shaped, number.of, differs(number) ? moved(number, v - numberOf(number, shape)) : () => fitted(number, v))
                }
                onSet={(v, diff) =>
                  diff !== undefined && differs(number)
                    ? by(number, diff)
                    : say(number.fact as FilterFact, fitted(number, v), `set ${number.label.toLowerCase()} of ${whose}`)
                }
                onBy={of.length > 1 ? (diff) => by(number, diff) : undefined}
                {...acts(number)}
                onAutomatic={() => say(number.fact as FilterFact, undefined, `give ${number.label.toLowerCase()} of ${whose} back`)}
              />
            </div>
          ))}
        {filter && (
          <label className="flex items-center gap-1.5 pb-1.5 text-[12.5px]" title="What the filter takes away from the level is made up">
            <input
              type="checkbox"
              checked={filter.makes_up}
              onChange={(event) =>
                say(
                  "filter_makes_up",
                  event.target.checked,
                  event.target.checked ? `make up the level of ${whose}` : `leave the level of ${whose} to its filter`,
                )
              }
            />
            keeps its level
          </label>
        )}
      </div>
      {filter ? (
        <>
          <DrivenCourseCard
            shaped={shaped}
            names={BRIGHTNESS}
            driven={BRIGHTNESS_DRIVEN[0]!}
            first={{ amount: 2_400, attack_ms: 10, decay_ms: 600, sustain: 0.4 }}
          />
          <Follows shaped={shaped} driven={BRIGHTNESS_DRIVEN} hidden={(route) => isHuman(route) || route.id === BRIGHTNESS.route} />
        </>
      ) : (
        <p className="text-[12px] text-ink3">
          As it was recorded. With a filter, its cutoff may follow time, the strike, the wheel and more.
        </p>
      )}
    </section>
  );
}
