// Format, width, rate and sides of what is written.
import { Choice } from "../parts/Choice";
import { type Bits, bitsOf, type Choices, type Kind, type Rate, ratesOf, SIDES, type Sides, withKind } from "../model/writing";

interface Props {
  kinds: { value: Kind; name: string }[];
  choices: Choices;
  onChange: (next: Choices) => void;
}

export function WritingChoices({ kinds, choices, onChange }: Props) {
  return (
    <>
      <Choice<Kind> label="Format" value={choices.kind} onChange={(kind) => onChange(withKind(choices, kind))} options={kinds} />
      <Choice<Bits> label="Bits" value={choices.bits} onChange={(bits) => onChange({ ...choices, bits })} options={bitsOf(choices.kind)} />
      <Choice<Rate> label="Rate" value={choices.rate} onChange={(rate) => onChange({ ...choices, rate })} options={ratesOf(choices.kind)} />
      <Choice<Sides> label="Sides" value={choices.sides} onChange={(sides) => onChange({ ...choices, sides })} options={SIDES} />
    </>
  );
}
