// Saying parts of shapes: routes, movements and courses of all strands that are shaped together.
import type { InstrumentView, Schemas } from "../api/client";
import { freshPart, type Movement, MOST, type PartKind, type Route, routeSaid, said } from "../model/driving";
import type { PlacedStrand } from "../model/strands";
import { change } from "../state/edits";
import { sayError } from "../state/view";

export type DrivenPoint = Schemas["CurvePoint"];
export type Shape = Schemas["Shape"];

/** Strands that are shaped together: what is set goes to all of them, what is shown is of the first. */
export interface Shaped {
  view: InstrumentView;
  of: PlacedStrand[];
  first: PlacedStrand;
  shape: Shape;
  /** As a label calls them. */
  whose: string;
}

export function shapeOf(view: InstrumentView, { strand }: PlacedStrand): Shape | undefined {
  return view.program.shapes.find(({ id }) => id === strand.shape);
}

export const strandsOf = ({ of }: Shaped) => of.map(({ strand }) => strand.id);

interface Said {
  kind: PartKind;
  number: number;
  /** `null` is gone. */
  value: unknown;
}

/** Says parts of all strands that are shaped together, as one act. */
export function sayParts(shaped: Shaped, label: string, parts: Said[]): void {
  const wishes = shaped.of.flatMap(({ strand }) =>
    parts.map(({ kind, number, value }) => ({ part: [kind, strand.id, number] as [PartKind, number, number], fact: kind, value })),
  );
  void change(shaped.view.id, label, wishes).catch(sayError);
}

export function sayRoute(shaped: Shaped, route: Schemas["Route"], label: string, changed: Partial<Route>): void {
  sayParts(shaped, label, [{ kind: "route", number: route.id, value: routeSaid(shaped.view.program, route, changed) }]);
}

export function addRoute(shaped: Shaped, label: string, route: Route): void {
  sayParts(shaped, label, [{ kind: "route", number: freshPart(), value: route }]);
}

/** A part that goes takes along the routes that come from it or lead to it. */
export function removePart(shaped: Shaped, kind: PartKind, number: number, label: string): void {
  const touches = (one: unknown) =>
    typeof one === "object" && one !== null && Object.entries(one).some(([of, name]) => of.startsWith(kind) && [name].flat()[0] === number);
  const routes = kind === "route" ? [] : shaped.shape.routes.filter(({ from, to, times }) => [from, to, times].some(touches));
  sayParts(shaped, label, [
    { kind, number, value: null },
    ...routes.map(({ id }) => ({ kind: "route" as const, number: id, value: null })),
  ]);
}

export function sayMovement(shaped: Shaped, movement: Schemas["Movement"], label: string, changed: Partial<Movement>): void {
  sayParts(shaped, label, [{ kind: "movement", number: movement.id, value: { ...said(movement), ...changed } }]);
}

export const hasRoom = (shape: Shape, kind: PartKind) => shape[`${kind}s`].length < MOST[kind];
