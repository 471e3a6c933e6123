// When a part of the panel is shown, in words.
import { hasValue, type Panel, type Part, valueOfWord } from "./panel";

type When = NonNullable<Part["shown_when"]>;

export const ALWAYS = "always";

/** Half way to the next word. */
const AROUND = 0.45;

function wordsOf(part: Part): string[] | undefined {
  if (typeof part.shown_as === "object" && "words" in part.shown_as) return part.shown_as.words;
  return part.kind === "switch" ? ["off", "on"] : part.kind === "choice" ? ["off", "on"] : undefined;
}

/** Everything that a part or a page can wait for: words of choices and switches, and controls that are not at their least. */
export function whenOptions(panel: Panel, part: { id?: number; shown_when?: Part["shown_when"] }): { name: string; when: When | null }[] {
  const all = panel.parts
    .filter((one) => one.id !== part.id && hasValue(one.kind))
    .flatMap((one): { name: string; when: When }[] => {
      const words = wordsOf(one);
      if (!words) return [{ name: `${one.name} is over nothing`, when: { control: one.id, low: 0.001, high: 1 } }];
      const around = AROUND / Math.max(1, words.length - 1);
      return words.map((word, n) => {
        const at = valueOfWord(words, n);
        return { name: `${one.name} is ${word}`, when: { control: one.id, low: Math.max(0, at - around), high: Math.min(1, at + around) } };
      });
    });
  const here = part.shown_when;
  const known = !here || all.some(({ when }) => isSame(when, here));
  return [{ name: ALWAYS, when: null }, ...all, ...(known ? [] : [{ name: whenName(panel, here), when: here }])];
}

const isSame = (one: When, other: When) =>
  one.control === other.control && Math.abs(one.low - other.low) < 0.01 && Math.abs(one.high - other.high) < 0.01;

/** As it is called. */
export function whenName(panel: Panel, when: Part["shown_when"]): string {
  if (!when) return ALWAYS;
  const of = panel.parts.find(({ id }) => id === when.control);
  if (!of) return ALWAYS;
  const found = whenOptions(panel, {}).find((one) => one.when && isSame(one.when, when));
  return found?.name ?? `${of.name} is from ${Math.round(when.low * 100)} to ${Math.round(when.high * 100)} %`;
}
