// What is shaped together, strands or regions, and saying parts of it: routes, movements and courses.
import type { Fact, InstrumentView, Schemas } from "../api/client";
import { type Driven, freshPart, type Movement, MOST, type PartKind, type Route, routeSaid, said, same } from "../model/driving";
import type { Wish } from "../model/edited";
import { type Placed, someRegions } from "../model/regions";
import { controllerName, OFFERED, type PlacedStrand } from "../model/strands";
import { player, type ShapeSetting } from "../sound/player";
import type { ShapeName } from "../sound/worklet";
import { change } from "../state/edits";
import { sayError, useView } from "../state/view";
import { freshName } from "../model/panel";
import { addWishes } from "./partWishes";

export type DrivenPoint = Schemas["CurvePoint"];
export type Shape = Schemas["Shape"];

/** What has a shape: a strand, or a region that may have one for itself. */
export interface Owner {
  /** As a fact names it. */
  target: { strand: number } | { region: [strand: number, number: number] };
  /** The name of its own shape, whether it has one or not: parts are said of that. */
  own: number;
  shape: Shape;
  byHand: Fact[];
}

/** What is shaped together: what is set goes to all of it, what is shown is of the first. */
export interface Shaped {
  view: InstrumentView;
  of: Owner[];
  /** The strand whose shape it is, or whose regions. */
  strand: PlacedStrand;
  shape: Shape;
  /** As a label calls it. */
  whose: string;
}

export function ownerOf(view: InstrumentView, { strand, said }: PlacedStrand): Owner | undefined {
  const shape = view.program.shapes.find(({ id }) => id === strand.shape);
  return shape && { target: { strand: strand.id }, own: strand.id, shape, byHand: said.by_hand };
}

/** A region plays as its strand does, where it has no shape for itself. */
export function regionOwner(view: InstrumentView, { region, name, ownShape, byHand }: Placed): Owner | undefined {
  const named = region.shape ?? view.program.strands.find(({ id }) => id === region.key.strand)?.shape;
  const shape = view.program.shapes.find(({ id }) => id === named);
  return shape && { target: { region: name }, own: ownShape, shape, byHand };
}

/** Their shapes, as the engine is told of them while a number is dragged. */
export const shapesOf = ({ of }: Shaped): ShapeName[] => of.map(nameOf);

const nameOf = ({ target, own, shape }: Owner): ShapeName => ("region" in target ? { id: own, region: target.region } : { id: shape.id });

/** Says facts of all that is shaped together, as one act. */
export function sayOf(shaped: Shaped, label: string, facts: [Fact, unknown][]): void {
  const wishes = shaped.of.flatMap(({ target }) => facts.map(([fact, value]) => ({ ...target, fact, value })));
  void change(shaped.view.id, label, wishes).catch(sayError);
}

const isOfShape = (fact: Fact) => fact.startsWith("shape_") || fact.startsWith("filter_");

/** Regions play as their strand does again. */
export function giveShapesBack(view: InstrumentView, regions: Placed[]): void {
  const shapes = new Map(view.program.shapes.map((shape) => [shape.id, shape]));
  const wishes = regions.flatMap(({ region, name, ownShape, byHand }): Wish[] => {
    const ofStrand = view.program.strands.find(({ id }) => id === region.key.strand)?.shape;
    // A part that is gone from the one is still in the other.
    const both = [region.shape, ofStrand].flatMap((id) => shapes.get(id ?? -1) ?? []);
    const parts = (kind: PartKind) =>
      [...new Set(both.flatMap((shape) => shape[`${kind}s`].map(({ id }) => id)))].map((number): Wish => ({
        part: [kind, ownShape, number],
        fact: kind,
        value: undefined,
      }));
    return [
      ...byHand.filter(isOfShape).map((fact) => ({ region: name, fact, value: undefined })),
      ...parts("course"),
      ...parts("movement"),
      ...parts("route"),
    ];
  });
  void change(view.id, `give the shape of ${someRegions(regions.length)} back to the strand`, wishes).catch(sayError);
}

/** Says a number of each as it follows from what that has, as one act. */
export function sayEach(shaped: Shaped, label: string, fact: Fact, of: (shape: Shape) => number): void {
  const wishes = shaped.of.map(({ target, shape }) => ({ ...target, fact, value: of(shape) }));
  void change(shaped.view.id, label, wishes).catch(sayError);
}

/** What each would have is heard while it is dragged. */
export function hearEach({ of }: Shaped, setting: ShapeSetting, value: (shape: Shape) => number): void {
  for (const one of of) player.shape([nameOf(one)], setting, value(one.shape));
}

/** Lets a number follow a controller that nobody moved yet: it begins where it is. */
export function drive(shaped: Shaped, driven: Driven): void {
  const used = shaped.shape.routes.filter(({ to }) => same(to, driven.to)).map(({ from }) => from);
  const controller = OFFERED.find((one) => !used.some((from) => same(from, { controller: one }))) ?? 1;
  addRoute(shaped, `let ${driven.name} of ${shaped.whose} follow ${controllerName(controller)}`, {
    from: { controller },
    to: driven.to,
    amount: driven.first,
    times: null,
    curve: [],
  });
}

/** Makes a control of the panel that moves a number as far down as up: what sounds is as it was until somebody moves it. */
export function toPanel({ view, of, whose }: Shaped, driven: Driven): void {
  const page = view.panel.pages[0] ?? { id: freshName(), name: "Main", colour: null, picture: null };
  const name = `${driven.name[0]!.toUpperCase()}${driven.name.slice(1)} of ${whose}`.replace("Its ", "").slice(0, 60);
  const label = name[0]!.toUpperCase() + name.slice(1);
  const range = Math.abs(driven.first);
  const each = of.map(({ own }) => ({ own, driven, of: whose, from: -range, to: range }));
  const { id, wishes } = addWishes(view, { page, kind: "slider", name: label, driven: each });
  void change(view.id, `make ${driven.name} of ${whose} a control of the panel`, [
    ...(view.panel.pages.length > 0 ? [] : [{ page: page.id, fact: "page_name" as const, value: page.name }]),
    ...wishes,
    { control: id, fact: "part_at_first", value: 0.5 },
  ])
    .then(() => useView.getState().say(`${label} stands on the panel now, on ${page.name}.`))
    .catch(sayError);
}

interface Said {
  kind: PartKind;
  number: number;
  /** `null` is gone. */
  value: unknown;
}

/** Says parts of all that is shaped together, as one act. */
export function sayParts(shaped: Shaped, label: string, parts: Said[]): void {
  const wishes = shaped.of.flatMap(({ own }) =>
    parts.map(({ kind, number, value }) => ({ part: [kind, own, number] as [PartKind, number, number], fact: kind, value })),
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
