// What a number of the sound follows: one row for each source, read as a sentence.
import type { Schemas } from "../api/client";
import { type Driven, routeSaid, same, type Source, sourceName, sourcesOf } from "../model/driving";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { player } from "../sound/player";
import { CurveButton } from "./Curve";
import { addRoute, hasRoom, removePart, sayRoute, type Shaped, shapesOf } from "./routes";

interface Props {
  shaped: Shaped;
  driven: Driven[];
  /** Whether a route stands elsewhere, and not here. */
  hidden?: (route: Schemas["Route"]) => boolean;
  /** Whether a source can drive it: all can, where nothing is said. */
  can?: (source: Source) => boolean;
  /** Whether more is only added where a number stands. */
  quiet?: boolean;
}

export function Follows({ shaped, driven, hidden, can = () => true, quiet }: Props) {
  const { shape } = shaped;
  const named = { ...shape, controls: shaped.view.program.controls };
  const rows = shape.routes.flatMap((route) => {
    const of = driven.find(({ to }) => same(to, route.to));
    return of && !hidden?.(route) ? [{ route, of }] : [];
  });
  const first = driven[0]!;
  const add = () => {
    const used = rows.map(({ route }) => route.from);
    const from = sourcesOf(named).find((source) => can(source) && !used.some((one) => same(one, source))) ?? "strike";
    addRoute(shaped, `let ${first.name} of ${shaped.whose} follow ${sourceName(from, named)}`, {
      from,
      to: first.to,
      amount: first.first,
      times: null,
      curve: [],
    });
  };
  return (
    <div className="flex flex-col gap-2" data-part="follows">
      {rows.map(({ route, of }) => (
        <Row key={route.id} shaped={shaped} route={route} of={of} driven={driven} can={can} />
      ))}
      {!quiet && (
        <button
          className="self-start text-[12.5px] text-ink2 hover:underline disabled:opacity-50"
          disabled={!hasRoom(shape, "route")}
          onClick={add}
        >
          + {first.name} follows something{rows.length > 0 ? " else" : ""}
        </button>
      )}
    </div>
  );
}

const told = (source: Source) => JSON.stringify(source);

interface RowProps {
  shaped: Shaped;
  route: Schemas["Route"];
  of: Driven;
  driven: Driven[];
  can: (source: Source) => boolean;
}

function Row({ shaped, route, of, driven, can }: RowProps) {
  const { view } = shaped;
  const named = { ...shaped.shape, controls: view.program.controls };
  const from = sourceName(route.from, named);
  const what = `${of.name} of ${shaped.whose}`;
  const options = (chosen: Source | null | undefined) =>
    sourcesOf(named, chosen)
      .filter(can)
      .map((source) => ({ value: told(source), name: sourceName(source, named) }));
  return (
    <div className="flex items-end gap-2" role="group" aria-label={`${of.name} follows ${from}`} data-route={route.id}>
      {driven.length > 1 && (
        <div className="w-24 shrink-0">
          <Choice
            label="What is driven"
            quiet
            value={told(route.to as Source)}
            options={driven.map(({ to, name }) => ({ value: told(to as Source), name }))}
            onChange={(next) => {
              const other = driven.find(({ to }) => told(to as Source) === next)!;
              sayRoute(shaped, route, `let ${other.name} of ${shaped.whose} follow ${from}`, { to: other.to, amount: other.first });
            }}
          />
        </div>
      )}
      <span className="pb-1.5 text-[12px] text-ink3">{driven.length > 1 ? "follows" : `${of.name} follows`}</span>
      <div className="w-36 shrink-0">
        <Choice
          label={`What ${of.name} follows`}
          quiet
          value={told(route.from)}
          options={options(route.from)}
          onChange={(next) => {
            const source = JSON.parse(next) as Source;
            sayRoute(shaped, route, `let ${what} follow ${sourceName(source, named)}`, { from: source });
          }}
        />
      </div>
      <Field
        label={`${of.name} by`}
        width="88px"
        value={route.amount}
        unit={of.unit}
        onLive={(amount) => player.shape(shapesOf(shaped), "route_amount", amount, route.id)}
        onSet={(amount) =>
          sayRoute(shaped, route, `let ${what} follow ${from} by ${of.unit.show(amount)}`, {
            amount: Math.max(-of.most, Math.min(of.most, amount)),
          })
        }
      />
      <CurveButton
        points={routeSaid(view.program, route).curve ?? []}
        of={`${of.name} follows ${from}`}
        onSet={(curve) => sayRoute(shaped, route, `draw how ${what} follows ${from}`, { curve })}
      />
      <div className="w-36 shrink-0">
        <Choice
          label={`How far ${of.name} follows`}
          quiet
          value={route.times ? told(route.times) : "all"}
          options={[{ value: "all", name: "always" }, ...options(route.times).map((one) => ({ ...one, name: `as far as ${one.name}` }))]}
          onChange={(next) => {
            const times = next === "all" ? null : (JSON.parse(next) as Source);
            sayRoute(
              shaped,
              route,
              times ? `let ${sourceName(times, named)} say how far ${what} follows ${from}` : `let ${what} always follow ${from}`,
              { times },
            );
          }}
        />
      </div>
      <button
        className="rounded px-1.5 pb-1.5 text-ink3 hover:text-ink"
        aria-label={`${of.name} follows ${from} no longer`}
        onClick={() => removePart(shaped, "route", route.id, `let ${what} follow ${from} no longer`)}
      >
        ×
      </button>
    </div>
  );
}
