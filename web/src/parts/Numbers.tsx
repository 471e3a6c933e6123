// Numbers of one thing, a field each, kept inside their bounds.
import type { Unit } from "../model/units";
import { Field } from "./Field";

/** One number of a thing. */
export interface NumberOf<T> {
  of: keyof T & string;
  label: string;
  unit: Unit;
  low: number;
  high: number;
}

interface Props<T> {
  numbers: NumberOf<T>[];
  values: T;
  byHand?: boolean;
  width?: string;
  onSet: (values: T) => void;
}

export function Numbers<T extends Record<string, number | null>>({ numbers, values, byHand, width, onSet }: Props<T>) {
  return numbers.map(({ of, label, unit, low, high }) => (
    <Field
      key={of}
      label={label}
      width={width}
      value={values[of] ?? undefined}
      unit={unit}
      byHand={byHand}
      onSet={(value) => onSet({ ...values, [of]: Math.min(high, Math.max(low, value)) })}
    />
  ));
}
