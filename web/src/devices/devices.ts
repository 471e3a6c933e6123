// The devices of this computer: what there is, what was chosen last, and what is wrong in a sentence.
import { create } from "zustand";
import { persist } from "zustand/middleware";

export interface Named {
  id: string;
  name: string;
}

interface Devices {
  inputs: Named[];
  midiOutputs: Named[];
  midiInputs: Named[];
  /** Why Web MIDI is not there. */
  midiMissing: string | undefined;
  /** Why audio is not there. */
  audioMissing: string | undefined;
  asked: boolean;
}

export const useDevices = create<Devices>(() => ({
  inputs: [],
  midiOutputs: [],
  midiInputs: [],
  midiMissing: undefined,
  audioMissing: undefined,
  asked: false,
}));

/** A note or controller of a MIDI foot-switch. */
export interface Learnt {
  kind: "note" | "controller";
  number: number;
}
export type FootAct = "keep" | "again" | "skip";

interface Choices {
  input: string;
  channels: 1 | 2;
  midiOutput: string;
  foot: Partial<Record<FootAct, Learnt>>;
  set: (choice: Partial<Omit<Choices, "set">>) => void;
}

/** The last choice is remembered in this browser. */
export const useChoices = create<Choices>()(
  persist((set) => ({ input: "", channels: 2, midiOutput: "", foot: {}, set: (choice) => set(choice) }), { name: "ladder-devices" }),
);

const byName = (a: Named, b: Named) => a.name.localeCompare(b.name);

export function sentenceOf(error: unknown): string {
  const name = error instanceof DOMException ? error.name : "";
  if (name === "NotAllowedError")
    return "The browser was not allowed to use the input. Allow it beside the address and try again; nothing was lost.";
  if (name === "NotFoundError" || name === "OverconstrainedError")
    return "The chosen input is not there any more. Plug it in, or choose another.";
  if (name === "NotReadableError") return "Another program holds the input. Close it there and try again.";
  return error instanceof Error ? error.message : String(error);
}

let midi: MIDIAccess | undefined;

export function midiAccess(): MIDIAccess | undefined {
  return midi;
}

const listeners = new Set<(bytes: Uint8Array) => void>();

/** Hears every message of every MIDI input. Gives what ends it. */
export function hearMidi(listener: (bytes: Uint8Array) => void): () => void {
  listeners.add(listener);
  return () => listeners.delete(listener);
}

const leavers = new Set<() => void>();

/** Told when a MIDI input goes. */
export function whenMidiGoes(told: () => void): void {
  leavers.add(told);
}

function listMidi(): void {
  if (!midi) return;
  const named = (port: MIDIPort) => ({ id: port.id, name: port.name ?? "unnamed port" });
  useDevices.setState({
    midiOutputs: [...midi.outputs.values()].map(named).sort(byName),
    midiInputs: [...midi.inputs.values()].map(named).sort(byName),
  });
  for (const input of midi.inputs.values()) {
    input.onmidimessage = (event: MIDIMessageEvent) => {
      if (event.data) for (const listener of listeners) listener(event.data);
    };
  }
}

async function listAudio(): Promise<void> {
  const all = await navigator.mediaDevices.enumerateDevices();
  const inputs = all
    .filter((device) => device.kind === "audioinput")
    .map((device, n) => ({ id: device.deviceId, name: device.label || `input ${n + 1}` }));
  useDevices.setState({ inputs: inputs.sort(byName) });
}

/** Asks the browser for audio and MIDI; says plainly what is refused or missing. */
export async function findDevices(): Promise<void> {
  useDevices.setState({ asked: true });
  if (!navigator.mediaDevices) {
    useDevices.setState({
      audioMissing: "This browser gives no audio input here: open Ladder on the computer itself (127.0.0.1) or over TLS.",
    });
  } else {
    try {
      // Names are told only once the input was allowed.
      const stream = await navigator.mediaDevices.getUserMedia({ audio: true });
      for (const track of stream.getTracks()) track.stop();
      await listAudio();
      useDevices.setState({ audioMissing: undefined });
      navigator.mediaDevices.ondevicechange = () => void listAudio();
    } catch (error) {
      useDevices.setState({ audioMissing: sentenceOf(error) });
    }
  }
  await findMidi();
}

/** Asks for MIDI alone. */
export async function findMidi(): Promise<void> {
  if (!("requestMIDIAccess" in navigator)) {
    useDevices.setState({ midiMissing: "This browser has no Web MIDI: use Chromium for a synthesiser; recording by hand works without." });
    return;
  }
  try {
    // Asked for once: ports of a second answer would be heard beside those of the first.
    midi ??= await navigator.requestMIDIAccess();
    midi.onstatechange = (event) => {
      const port = event.port;
      if (port?.type === "input" && port.state === "disconnected") for (const told of leavers) told();
      listMidi();
    };
    useDevices.setState({ midiMissing: undefined });
    listMidi();
  } catch {
    useDevices.setState({ midiMissing: "The browser was not allowed to use MIDI. Allow it beside the address and try again." });
  }
}
