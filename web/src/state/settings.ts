// What this browser's user wants of the page, whatever the instrument; kept in the browser.
import { create } from "zustand";
import { persist } from "zustand/middleware";
import { callMiddleC, type MiddleC } from "../model/keys";
import { frames, milliseconds, type Unit } from "../model/units";

export type Theme = "light" | "dark" | "system";

interface Values {
  theme: Theme;
  /** Whether single letters do something: W, R, K, A … */
  letterKeys: boolean;
  middleC: MiddleC;
  /** How places in a sound are shown. */
  times: "frames" | "ms";
  /** The audio output, by its id; empty is the browser's own. */
  output: string;
  volumeDb: number;
  /** Memory that audio may take while it is played, from the next load of the page on. */
  memoryMb: number;
}

interface Settings extends Values {
  set: (settings: Partial<Values>) => void;
}

const AT_FIRST: Values = {
  theme: "system",
  letterKeys: true,
  middleC: "C4",
  times: "frames",
  output: "",
  volumeDb: 0,
  memoryMb: 512,
};

export const useSettings = create<Settings>()(
  persist((set) => ({ ...AT_FIRST, set: (settings) => set(settings) }), { name: "ladder-settings" }),
);

const system = window.matchMedia("(prefers-color-scheme: dark)");

/** What is shown now: light or dark. Canvases are drawn anew when it changes. */
export const useShade = create<{ shade: "light" | "dark" }>(() => ({ shade: "light" }));

function shade(): void {
  const { theme } = useSettings.getState();
  const next = theme === "system" ? (system.matches ? "dark" : "light") : theme;
  document.documentElement.dataset.shade = next;
  useShade.setState({ shade: next });
}

/** The unit of places in a sound of that rate. */
export function useTimeUnit(rate: number): Unit {
  const times = useSettings((settings) => settings.times);
  return times === "ms" ? milliseconds(rate) : frames(rate);
}

const nameKeys = () => callMiddleC(useSettings.getState().middleC);
nameKeys();
useSettings.subscribe(nameKeys);

shade();
system.addEventListener("change", shade);
useSettings.subscribe(shade);
