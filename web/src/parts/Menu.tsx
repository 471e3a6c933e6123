// A button that opens a few acts.
import { DropdownMenu } from "radix-ui";
import type { ReactNode } from "react";

/** No longer than the window has room for. */
const LIST = "z-50 max-h-[min(420px,var(--radix-dropdown-menu-content-available-height))] min-w-44 overflow-y-auto";

interface Props {
  /** What stands on the button, and how it looks. */
  button: ReactNode;
  className: string;
  label?: string;
  title?: string | undefined;
  disabled?: boolean;
  /** Which of its edges the list keeps to. */
  align: "start" | "end";
  side?: "top" | "bottom";
  acts: { name: string; says?: string; begin: () => void }[];
}

export function Menu({ button, className, label, title, disabled, align, side = "bottom", acts }: Props) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className={className} aria-label={label} title={title} disabled={disabled}>
        {button}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          side={side}
          align={align}
          sideOffset={4}
          className={`${LIST} rounded-lg border border-line bg-raised p-1 text-[13px] shadow-lg`}
        >
          {acts.map(({ name, says, begin }) => (
            <DropdownMenu.Item
              key={name}
              onSelect={begin}
              className="cursor-pointer rounded-md px-2 py-1 outline-none data-[highlighted]:bg-act-soft"
            >
              {name} {says && <span className="text-ink3">· {says}</span>}
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
