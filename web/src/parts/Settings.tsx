// The settings of this browser.
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { create } from "zustand";
import type { MiddleC } from "../model/keys";
import { decibels, lufs } from "../model/units";
import { setShelfLufs, useShelfLufs } from "../state/kept";
import { type Theme, useSettings } from "../state/settings";
import { sayError } from "../state/view";
import { Choice } from "./Choice";
import { Field } from "./Field";

const THEMES: { value: Theme; name: string }[] = [
  { value: "system", name: "as the system has it" },
  { value: "light", name: "light" },
  { value: "dark", name: "dark" },
];
const MIDDLE: { value: MiddleC; name: string }[] = [
  { value: "C4", name: "C4" },
  { value: "C3", name: "C3" },
];
const TIMES: { value: "frames" | "ms"; name: string }[] = [
  { value: "frames", name: "frames" },
  { value: "ms", name: "milliseconds" },
];
const MEMORIES = [64, 128, 256, 512, 1024, 2048].map((mb) => ({ value: String(mb), name: `${mb} MB` }));
const LETTERS = [
  { value: "on", name: "do something" },
  { value: "off", name: "do nothing" },
];

/** Outside the page, which is drawn anew when a name of keys or places changes. */
const useOpen = create<{ open: boolean }>(() => ({ open: false }));

export function Settings() {
  const { theme, letterKeys, middleC, times, output, volumeDb, memoryMb, set } = useSettings();
  const open = useOpen((state) => state.open);
  const outputs = useOutputs(open);
  const shelfLufs = useShelfLufs();
  return (
    <Dialog.Root open={open} onOpenChange={(next) => useOpen.setState({ open: next })}>
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
            <Choice label="Middle C is called" value={middleC} onChange={(next) => set({ middleC: next })} options={MIDDLE} />
            <Choice label="Places in a sound" value={times} onChange={(next) => set({ times: next })} options={TIMES} />
            <Choice
              label="Output"
              value={outputs.some((o) => o.value === output) ? output : BROWSERS_OWN}
              onChange={(next) => set({ output: next === BROWSERS_OWN ? "" : next })}
              options={outputs}
            />
            <Field
              label="Volume of what is played"
              value={volumeDb}
              unit={decibels}
              onSet={(v) => set({ volumeDb: Math.min(0, Math.max(-60, v)) })}
            />
            <Choice
              label="Memory for audio (next load)"
              value={String(memoryMb)}
              onChange={(next) => set({ memoryMb: Number(next) })}
              options={MEMORIES}
            />
          </div>
          <p className="mt-4 mb-3 text-ink3">for all who use this shelf</p>
          <div className="grid grid-cols-2 gap-3">
            <Field label="Loudness of the shelf" value={shelfLufs} unit={lufs} onSet={(v) => void setShelfLufs(v).catch(sayError)} />
          </div>
          <Dialog.Close className="button mt-4">Close</Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

const BROWSERS_OWN = "browser";

/** Where sound can go, as far as the browser tells. */
function useOutputs(looks: boolean): { value: string; name: string }[] {
  const [found, setFound] = useState<{ value: string; name: string }[]>([]);
  useEffect(() => {
    if (!looks || !navigator.mediaDevices) return;
    void navigator.mediaDevices
      .enumerateDevices()
      .then((all) =>
        setFound(
          all
            .filter(({ kind, deviceId }) => kind === "audiooutput" && deviceId !== "" && deviceId !== "default")
            .map(({ deviceId, label }, n) => ({ value: deviceId, name: label || `output ${n + 1}` })),
        ),
      );
  }, [looks]);
  return [{ value: BROWSERS_OWN, name: "the browser's own" }, ...found];
}
