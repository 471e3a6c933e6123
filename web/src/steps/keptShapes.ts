// Shapes that are kept under a name: used on any strand of any instrument.
import { useQuery } from "@tanstack/react-query";
import type { InstrumentView, Schemas } from "../api/client";
import { type DrivenCourse, type Movement, type PartKind, type Route, routeSaid, said } from "../model/driving";
import type { Wish } from "../model/edited";
import { flat, type Loudness } from "../model/shape";
import { keptQuery } from "../state/queries";
import type { Owner } from "./routes";
import { BY_STRIKE, COURSE, FILTER, PARTS_BEND } from "./shapeFacts";

type Shape = Schemas["Shape"];
type Numbered<T> = [number: number, said: T][];

/** A strand's whole shape, as it is said again elsewhere. */
export interface KeptShape {
  name: string;
  loudness: Loudness;
  filter: Schemas["Filter"] | null;
  course: Numbered<DrivenCourse>;
  movement: Numbered<Movement>;
  route: Numbered<Route>;
}

export function useKeptShapes(): KeptShape[] {
  return (useQuery(keptQuery("shape")).data ?? []).map(({ name, said }) => ({ ...(said as KeptShape), name }));
}

export function keptOf(name: string, program: InstrumentView["program"], shape: Shape): KeptShape {
  return {
    name,
    loudness: shape.loudness,
    filter: shape.filter ?? null,
    course: shape.courses.map((course) => [course.id, said(course)]),
    movement: shape.movements.map((movement) => [movement.id, said(movement)]),
    route: shape.routes.map((route) => [route.id, routeSaid(program, route, {})]),
  };
}

/** What gives a strand or a region a kept shape, whose own is gone: as one act. */
export function wishesOf(kept: KeptShape, { target, own, shape }: Pick<Owner, "target" | "own" | "shape">): Wish[] {
  const { filter } = kept;
  const loudness = [...COURSE, ...PARTS_BEND, BY_STRIKE].map(({ fact, of }) => ({ ...target, fact, value: flat(kept.loudness)[of] }));
  const form: Wish = { ...target, fact: "filter_form", value: filter && { passes: filter.passes, poles: filter.poles } };
  const numbers: Wish[] = filter
    ? [
        ...FILTER.map(({ fact, of }) => ({ ...target, fact, value: filter[of] })),
        { ...target, fact: "filter_makes_up" as const, value: filter.makes_up },
      ]
    : [];
  const parts = (kind: PartKind, there: { id: number }[]): Wish[] => {
    const of = (number: number, value: unknown): Wish => ({ part: [kind, own, number], fact: kind, value });
    const gone = there.filter(({ id }) => !kept[kind].some(([number]) => number === id));
    return [...gone.map(({ id }) => of(id, null)), ...kept[kind].map(([number, value]) => of(number, value))];
  };
  return [
    ...loudness,
    form,
    ...numbers,
    ...parts("course", shape.courses),
    ...parts("movement", shape.movements),
    ...parts("route", shape.routes),
  ];
}
