// The settings of this browser.
import { Dialog } from "radix-ui";
import { type Theme, useSettings } from "../state/settings";
import { Choice } from "./Choice";

const THEMES: { value: Theme; name: string }[] = [
  { value: "system", name: "as the system has it" },
  { value: "light", name: "light" },
  { value: "dark", name: "dark" },
];
const LETTERS = [
  { value: "on", name: "do something" },
  { value: "off", name: "do nothing" },
];

export function Settings() {
  const { theme, letterKeys, set } = useSettings();
  return (
    <Dialog.Root>
      <Dialog.Trigger className="button">Settings</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/20" />
        <Dialog.Content className="card fixed top-1/4 left-1/2 w-[420px] -translate-x-1/2 p-5 shadow-lg" aria-describedby={undefined}>
          <Dialog.Title className="text-[15px] font-semibold">Settings</Dialog.Title>
          <p className="mb-3 text-ink3">for this browser, at once</p>
          <div className="grid grid-cols-2 gap-3">
            <Choice label="Theme" value={theme} onChange={(next) => set({ theme: next })} options={THEMES} />
            <Choice
              label="Single letters (W, R, K, A …)"
              value={letterKeys ? "on" : "off"}
              onChange={(next) => set({ letterKeys: next === "on" })}
              options={LETTERS}
            />
          </div>
          <Dialog.Close className="button mt-4">Close</Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
