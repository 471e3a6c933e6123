// Routes that the words of a choice choose among: each is there while the choice stands at its word. The control drives it by a curve that is 1 there and 0 at
// every other word, times what it comes from.
import type { InstrumentView, Schemas } from "../api/client";
import { type Driven, routeSaid, type Source } from "./driving";
import { drivables, type Drivable, nameOfDriven, type Part } from "./panel";
import type { Wish } from "./edited";

type Program = InstrumentView["program"];
type Point = Schemas["CurvePoint"];

/** A route that is there while a choice stands at a word. */
export interface WordRoute {
  /** The name under which the route is said. */
  own: number;
  route: Schemas["Route"];
  word: number;
  from: Source;
  driven: Driven;
  /** The strand's name. */
  of: string;
}

export const wordsOf = (part: Part): string[] | undefined =>
  typeof part.shown_as === "object" && "words" in part.shown_as ? part.shown_as.words : undefined;

/** 1 at a word, 0 at every other. */
export function gate(word: number, words: number): Point[] {
  const at = (n: number) => n / (words - 1);
  return [word - 1, word, word + 1].filter((n) => n >= 0 && n < words).map((n) => ({ at: at(n), value: n === word ? 1 : 0 }));
}

/** The word that a curve is of; none, where it is another curve. */
export function gateOf(points: Point[], words: number): number | undefined {
  const top = points.find(({ value }) => value === 1);
  const word = top && Math.round(top.at * (words - 1));
  if (word === undefined) return undefined;
  const wanted = gate(word, words);
  const alike =
    points.length === wanted.length &&
    points.every(({ at, value }, n) => Math.abs(at - wanted[n]!.at) < 1e-6 && value === wanted[n]!.value);
  return alike ? word : undefined;
}

/** Whether a route is one that a word chooses. */
export function isOfWord(program: Program, part: Part | undefined, route: Schemas["Route"]): boolean {
  const words = part && wordsOf(part);
  return words !== undefined && route.times != null && gateOf(routeSaid(program, route).curve ?? [], words.length) !== undefined;
}

/** All of a choice, in the order of its words. */
export function wordRoutes(program: Program, part: Part): WordRoute[] {
  const words = wordsOf(part);
  if (!words) return [];
  const all = program.strands.flatMap((strand) =>
    (program.shapes.find(({ id }) => id === strand.shape)?.routes ?? []).flatMap((route): WordRoute[] => {
      const isIt = typeof route.from === "object" && "control" in route.from && route.from.control === part.id;
      const word = isIt && route.times != null ? gateOf(routeSaid(program, route).curve ?? [], words.length) : undefined;
      if (word === undefined) return [];
      return [{ own: strand.id, route, word, from: route.times!, driven: nameOfDriven(program, strand, route.to), of: strand.name }];
    }),
  );
  return all.sort((one, other) => one.word - other.word || one.own - other.own || one.route.id - other.route.id);
}

/** What the route of a word may lead to: what of a strand can go up from where it is. Level only goes down, and effects follow what is one for all voices. */
export function wordDrivables(program: Program): Drivable[] {
  return drivables(program, []).filter(
    ({ driven }) => driven.to !== "level" && !(typeof driven.to === "object" && "strand_level" in driven.to),
  );
}

/** What has to be said where a choice has other words: routes stay with the word of their name, else with the one in its place, and go where there is none. */
export function wordsWishes(program: Program, part: Part, words: string[]): Wish[] {
  const before = wordsOf(part) ?? [];
  return wordRoutes(program, part).flatMap(({ own, route, word }): Wish[] => {
    const named = words.indexOf(before[word] ?? "");
    // A word that was only called otherwise stands where it stood.
    const next = named >= 0 ? named : words.length === before.length ? word : -1;
    const value = next < 0 ? null : routeSaid(program, route, { curve: gate(next, words.length) });
    return [{ part: ["route", own, route.id], fact: "route", value }];
  });
}
