// What a format does not hold in one, and may hold in others beside it.
import type { Choices } from "../model/writing";
import { Ticks } from "../parts/Ticks";

type What = "turns" | "keyUp" | "kept";

const OF_SOUNDFONT: { value: What; name: string }[] = [
  { value: "turns", name: "Round robins as presets beside" },
  { value: "keyUp", name: "Key-up sounds as a preset" },
  { value: "kept", name: "Kept values as presets beside" },
];
const OF_SFZ: { value: What; name: string }[] = [{ value: "kept", name: "Kept values as an SFZ each, beside" }];

interface Props {
  /** What there is of it. */
  has: Record<What, boolean>;
  choices: Choices;
  onChange: (next: Choices) => void;
}

export function PresetsBeside({ has, choices, onChange }: Props) {
  const ofKind = choices.kind === "sound_font2" ? OF_SOUNDFONT : choices.kind.startsWith("sfz") ? OF_SFZ : [];
  const there = ofKind.filter(({ value }) => has[value]);
  if (there.length === 0) return null;
  return <Ticks all={there} isOn={(what) => choices[what]} onTick={(what, isOn) => onChange({ ...choices, [what]: isOn })} />;
}
