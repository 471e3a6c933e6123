// A box that opens over the foot of every step, and stays while one works elsewhere.
import { Popover } from "radix-ui";
import type { ReactNode } from "react";

interface Props {
  name: string;
  title: string;
  /** What stands on its button beside the name. */
  told?: ReactNode;
  width: string;
  /** Beside the button that closes it. */
  acts?: ReactNode;
  children: ReactNode;
}

export function FootBox({ name, title, told, width, acts, children }: Props) {
  return (
    <Popover.Root>
      <Popover.Trigger className="rounded px-1 whitespace-nowrap hover:bg-line2" title={title}>
        {name}
        {told}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          side="top"
          align="end"
          sideOffset={4}
          aria-label={name}
          onInteractOutside={(event) => event.preventDefault()}
          className={`z-40 flex ${width} flex-col gap-2 rounded-lg border border-line bg-raised p-3 text-[12.5px] shadow-lg`}
        >
          <h3 className="font-semibold">{name}</h3>
          {children}
          <div className="mt-1 flex justify-end gap-2">
            {acts}
            <Popover.Close className="button">Close</Popover.Close>
          </div>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
