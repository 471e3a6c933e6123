// Dialogs that ask one thing.
import { Dialog } from "radix-ui";
import { type ReactNode, useState } from "react";

function Asking({ title, onClose, children }: { title: string; onClose: () => void; children: ReactNode }) {
  return (
    <Dialog.Root open onOpenChange={(open) => !open && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/20" />
        <Dialog.Content className="card fixed top-1/4 left-1/2 w-[420px] -translate-x-1/2 p-5 shadow-lg" aria-describedby={undefined}>
          <Dialog.Title className="mb-3 text-[15px] font-semibold">{title}</Dialog.Title>
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

interface NameProps {
  title: string;
  open: boolean;
  value: string;
  onClose: () => void;
  /** Given what was written, where that is another name. */
  onKeep: (name: string) => void;
}

/** Asks for a name. */
export function AskName(props: NameProps) {
  return props.open ? <NameAsked {...props} /> : null;
}

function NameAsked({ title, value, onClose, onKeep }: NameProps) {
  const [text, setText] = useState(value);
  const name = text.trim();
  return (
    <Asking title={title} onClose={onClose}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (name && name !== value) onKeep(name);
          onClose();
        }}
      >
        <input
          aria-label="Name"
          className="written"
          value={text}
          maxLength={120}
          spellCheck={false}
          onFocus={(event) => event.target.select()}
          onChange={(event) => setText(event.target.value)}
        />
        <div className="mt-4 flex gap-2">
          <button className="button act" disabled={!name}>
            Keep
          </button>
          <Dialog.Close className="button" type="button">
            Cancel
          </Dialog.Close>
        </div>
      </form>
    </Asking>
  );
}

interface SurelyProps {
  title: string;
  /** What is done. */
  act: string;
  onClose: () => void;
  onSure: () => void;
  children: ReactNode;
}

/** Asks once before what cannot be undone. */
export function AskSurely({ title, act, onClose, onSure, children }: SurelyProps) {
  return (
    <Asking title={title} onClose={onClose}>
      <p>{children}</p>
      <div className="mt-4 flex gap-2">
        <button
          className="button !border-mark !text-mark"
          onClick={() => {
            onSure();
            onClose();
          }}
        >
          {act}
        </button>
        <Dialog.Close className="button">Cancel</Dialog.Close>
      </div>
    </Asking>
  );
}
