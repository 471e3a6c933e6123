// What is said where parts of a panel come, go, are copied and drive something.
import type { InstrumentView, Schemas } from "../api/client";
import type { Wish } from "../model/edited";
import { freshPart, routeSaid } from "../model/driving";
import { wordRoutes } from "../model/words";
import {
  type Drivable,
  type Driving,
  freshName,
  KINDS,
  type Page,
  type Part,
  type PartKind,
  PAGE_COLUMNS,
  type Place,
  roomFor,
  routeWith,
  within,
} from "../model/panel";

/** The route by which a control drives something, from one value to another. */
export function driveWishes(control: number, { own, driven, from, to, beside }: Drivable): Wish[] {
  const straight = [0, 1].map((at) => ({ at, value: at }));
  const value = { from: { control }, times: null, to: driven.to, ...routeWith({ from, to }, straight, driven.to) };
  return [{ part: ["route", own, freshPart()], fact: "route", value }, ...(beside ?? [])];
}

/** A part that is there from now on, and its name. */
export function addWishes(
  { panel }: InstrumentView,
  { page, kind, name, near, driven }: { page: Page; kind: PartKind; name: string; near?: Place; driven?: Drivable[] },
): { id: number; wishes: Wish[] } {
  const id = freshName();
  const size = KINDS.find((one) => one.kind === kind)?.size ?? [10, 3];
  const taken = panel.parts.filter((part) => part.page === page.id || part.page == null).map(({ place }) => place);
  const wishes: Wish[] = [
    { control: id, fact: "part_kind", value: kind },
    { control: id, fact: "part_name", value: name },
    { control: id, fact: "part_page", value: page.id },
    { control: id, fact: "part_order", value: panel.parts.length },
    { control: id, fact: "part_place", value: roomFor(size, taken, near) },
  ];
  if (kind === "choice") wishes.push({ control: id, fact: "part_shown_as", value: { words: ["first", "second"] } });
  if (driven?.length) wishes.push({ control: id, fact: "part_shown_as", value: "driven" });
  for (const one of driven ?? []) wishes.push(...driveWishes(id, one));
  return { id, wishes };
}

/** Parts go, with the routes of those that are controls. */
export function removeWishes({ program }: InstrumentView, parts: Part[]): Wish[] {
  const gone = new Set(parts.map(({ id }) => id));
  const isGone = (source: Schemas["DrivingSource"] | null | undefined) =>
    typeof source === "object" && source !== null && "control" in source && gone.has(source.control);
  const routes = (own: number, all: Schemas["Route"][]): Wish[] =>
    all
      .filter(({ from, times }) => isGone(from) || isGone(times))
      .map(({ id }) => ({ part: ["route", own, id], fact: "route", value: null }));
  return [
    ...parts.map(({ id }): Wish => ({ control: id, fact: "part_kind", value: null })),
    ...routes(2 ** 53 - 1, program.routes ?? []),
    ...program.strands.flatMap(({ id, shape }) => routes(id, program.shapes.find((one) => one.id === shape)?.routes ?? [])),
  ];
}

/** The same again, a little further, with all that they drive. */
export function copyWishes(
  { program, panel }: InstrumentView,
  parts: Part[],
  drivings: Map<number, Driving[]>,
): { ids: number[]; wishes: Wish[] } {
  const ids: number[] = [];
  const wishes = parts.flatMap((part, n): Wish[] => {
    const id = freshName();
    ids.push(id);
    const { place } = part;
    const further = within({ ...place, x: place.x + 1 > PAGE_COLUMNS - place.wide ? 0 : place.x + 1, y: place.y + 1 });
    const facts = {
      part_kind: part.kind,
      part_name: part.name,
      part_page: part.page,
      part_place: further,
      part_order: panel.parts.length + n,
      part_shown_as: part.shown_as,
      part_at_first: part.at_first,
      part_shown_when: part.shown_when,
      part_colour: part.colour,
      part_picture: part.picture,
      part_strand: part.strand,
      part_group: part.group,
      ...(part.text ? { part_text: part.text } : {}),
    };
    const routes = (drivings.get(part.id) ?? []).map(({ own, route }): Wish => ({
      part: ["route", own, freshPart()],
      fact: "route",
      value: routeSaid(program, route, { from: { control: id } }),
    }));
    const ofWords = wordRoutes(program, part).map(({ own, route }): Wish => ({
      part: ["route", own, freshPart()],
      fact: "route",
      value: routeSaid(program, route, { from: { control: id } }),
    }));
    return [...Object.entries(facts).map(([fact, value]) => ({ control: id, fact, value }) as Wish), ...routes, ...ofWords];
  });
  return { ids, wishes };
}
