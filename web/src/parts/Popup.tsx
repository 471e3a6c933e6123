// A button that opens a small form over the page.
import { Popover } from "radix-ui";
import { type ReactNode, useState } from "react";

interface Props {
  button: string;
  title: string;
  disabled?: boolean;
  /** Given what closes it. */
  children: (close: () => void) => ReactNode;
}

export function Popup({ button, title, disabled, children }: Props) {
  const [open, setOpen] = useState(false);
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className="button" disabled={disabled}>
        {button}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          aria-label={title}
          align="end"
          sideOffset={4}
          collisionPadding={8}
          className="z-40 w-80 rounded-lg border border-line bg-raised p-3 text-[13px] shadow-lg"
        >
          <h3 className="mb-2 font-semibold">{title}</h3>
          {children(() => setOpen(false))}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
