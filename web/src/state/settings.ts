// What this browser's user wants of the page, whatever the instrument; kept in the browser.
import { create } from "zustand";
import { persist } from "zustand/middleware";

export type Theme = "light" | "dark" | "system";

interface Settings {
  theme: Theme;
  /** Whether single letters do something: W, R, K, A … */
  letterKeys: boolean;
  set: (settings: Partial<Pick<Settings, "theme" | "letterKeys">>) => void;
}

export const useSettings = create<Settings>()(
  persist((set) => ({ theme: "system", letterKeys: true, set: (settings) => set(settings) }), { name: "ladder-settings" }),
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

shade();
system.addEventListener("change", shade);
useSettings.subscribe(shade);
