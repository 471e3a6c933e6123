// Single letters that do something, wherever nobody types.
import { useEffect, useEffectEvent } from "react";
import { keyOfLetter } from "../sound/player";
import { useSettings } from "../state/settings";
import { useView } from "../state/view";

const isIn = (event: KeyboardEvent, what: string) => event.target instanceof HTMLElement && event.target.closest(what) !== null;

/** Whether a letter is written, or chooses something by its name. */
export const isWritten = (event: KeyboardEvent): boolean =>
  event.target instanceof HTMLInputElement ||
  isIn(event, "select,textarea,[role=combobox],[role=listbox][data-radix-select-viewport],[role=dialog]");

/** Whether a key goes to something that is typed into, chosen from, or moved by keys. */
export const isTyped = (event: KeyboardEvent): boolean => isWritten(event) || isIn(event, "[role=slider],[role=switch],[role=radio]");

/** While this is shown a letter does something: not where letters play notes, or do nothing by the settings. */
export function useLetter(letter: string, act: (event: KeyboardEvent) => void): void {
  const heard = useEffectEvent((event: KeyboardEvent) => {
    if (event.key.toLowerCase() !== letter || isTyped(event) || event.ctrlKey || event.metaKey || event.altKey || event.repeat) return;
    const plays = useView.getState().playKeys && keyOfLetter(event.code) !== undefined;
    if (!plays && useSettings.getState().letterKeys) act(event);
  });
  useEffect(() => {
    const down = (event: KeyboardEvent) => heard(event);
    window.addEventListener("keydown", down);
    return () => window.removeEventListener("keydown", down);
  }, []);
}
