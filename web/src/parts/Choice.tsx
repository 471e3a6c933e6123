// One of several.
import { Select } from "radix-ui";
import { type RefObject, useId } from "react";

interface Props<T extends string> {
  label: string;
  value: T;
  options: { value: T; name: string }[];
  onChange: (value: T) => void;
  /** Instead of a label above: said inside while nothing is chosen. */
  quiet?: boolean;
  /** What has the focus once something was chosen; itself where that is left out. */
  then?: RefObject<HTMLElement | null>;
}

export function Choice<T extends string>({ label, value, options, onChange, quiet, then }: Props<T>) {
  const id = useId();
  return (
    <div className="relative">
      <div id={id} className={quiet ? "sr-only" : "field-label"}>
        {label}
      </div>
      <Select.Root value={value} onValueChange={(next) => onChange(next as T)}>
        <Select.Trigger
          aria-labelledby={id}
          className="mt-0.5 flex w-full items-center justify-between gap-2 rounded-lg border border-edge bg-raised px-2 py-1 text-left"
        >
          <span className="truncate">
            <Select.Value placeholder={quiet ? label : undefined} />
          </span>
          <Select.Icon className="text-ink3">▾</Select.Icon>
        </Select.Trigger>
        <Select.Portal>
          <Select.Content
            position="popper"
            sideOffset={4}
            className="z-50 min-w-40 rounded-lg border border-line bg-raised p-1 shadow-lg"
            onCloseAutoFocus={(event) => {
              if (!then?.current) return;
              event.preventDefault();
              then.current.focus();
            }}
          >
            <Select.Viewport>
              {options.map((option) => (
                <Select.Item
                  key={option.value}
                  value={option.value}
                  className="cursor-pointer rounded-md px-2 py-1 outline-none data-[highlighted]:bg-act-soft data-[state=checked]:font-semibold"
                >
                  <Select.ItemText>{option.name}</Select.ItemText>
                </Select.Item>
              ))}
            </Select.Viewport>
          </Select.Content>
        </Select.Portal>
      </Select.Root>
    </div>
  );
}
