// How instruments were given away last, in this browser.
import { create } from "zustand";
import { persist } from "zustand/middleware";
import { type Choices, FIRST_CHOICES } from "../model/writing";

interface Exporting {
  choices: Choices;
  setChoices: (choices: Choices) => void;
  /** Rules by which files are called, by instrument. */
  rules: Record<number, string>;
  setRule: (instrument: number, rule: string) => void;
  /** Names of the folders that instruments are given into. */
  folders: Record<number, string>;
  setFolder: (instrument: number, folder: string) => void;
}

export const useExporting = create<Exporting>()(
  persist(
    (set) => ({
      choices: FIRST_CHOICES,
      setChoices: (choices) => set({ choices }),
      rules: {},
      setRule: (instrument, rule) => set(({ rules }) => ({ rules: { ...rules, [instrument]: rule } })),
      folders: {},
      setFolder: (instrument, folder) => set(({ folders }) => ({ folders: { ...folders, [instrument]: folder } })),
    }),
    {
      name: "ladder-exporting",
      // What an earlier page kept may lack choices of today.
      merge: (kept, now) => {
        const before = kept as Partial<Exporting> | undefined;
        return { ...now, ...before, choices: { ...now.choices, ...before?.choices } };
      },
    },
  ),
);
