// Several that are ticked or not.
interface Props<T extends string | number> {
  /** Shown above; none where what stands before says it. */
  label?: string;
  all: { value: T; name: string }[];
  isOn: (value: T) => boolean;
  onTick: (value: T, isOn: boolean) => void;
}

export function Ticks<T extends string | number>({ label, all, isOn, onTick }: Props<T>) {
  return (
    <fieldset className="col-span-full flex flex-wrap gap-x-4 gap-y-1">
      {label && <legend className="field-label">{label}</legend>}
      {all.map(({ value, name }) => (
        <label key={value} className="flex min-h-6 items-center gap-1">
          <input type="checkbox" checked={isOn(value)} onChange={(event) => onTick(value, event.target.checked)} />
          {name}
        </label>
      ))}
    </fieldset>
  );
}
