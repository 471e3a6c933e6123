// Who made it, under which licence, and how much of it is kept in this browser.
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { megabytes } from "../model/units";
import { sayError } from "../state/view";
import { useFolder } from "./folder";
import { count, keepAll, stopKeeping, useKeeping } from "./keeping";

export function About() {
  const [open, setOpen] = useState(false);
  const { contents, place } = useFolder();
  const listed = contents?.instruments[place];
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="button">About</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-ink/30" />
        <Dialog.Content
          className="card fixed top-1/2 left-1/2 flex max-h-[90vh] w-[min(92vw,460px)] -translate-x-1/2 -translate-y-1/2 flex-col gap-3 overflow-y-auto p-4"
          aria-describedby={undefined}
        >
          <Dialog.Title className="text-[15px] font-semibold">{listed?.name}</Dialog.Title>
          <Said what="Credits" text={listed?.credits} />
          <Said what="Licence" text={listed?.licence} />
          <Kept />
          <p className="text-[12.5px] text-ink3">
            Keys play by mouse, touch and MIDI, and by the letters Z to M and Q to U. A double click on a slider brings its first value
            back.
          </p>
          <Dialog.Close className="button self-end">Close</Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Said({ what, text }: { what: string; text: string | undefined }) {
  return text ? (
    <div>
      <div className="field-label">{what}</div>
      <p className="whitespace-pre-line">{text}</p>
    </div>
  ) : null;
}

function Kept() {
  const { kept, of, bytes, going } = useKeeping();
  useEffect(() => {
    void count().catch(sayError);
  }, []);
  const all = kept === of && of > 0;
  return (
    <div data-part="kept">
      <div className="field-label">Offline</div>
      <p>
        {kept === undefined
          ? "What was played stays in this browser."
          : all
            ? "All of it is kept in this browser, and plays offline."
            : `${kept} of ${of} pieces of its sound are kept in this browser, and play offline.`}
      </p>
      {going && <progress className="mt-1 w-full accent-act" value={kept} max={of} aria-label="kept" />}
      {!all && (
        <button className="button mt-1" onClick={() => (going ? stopKeeping() : void keepAll())}>
          {going ? "Cancel" : `Keep all${bytes > 0 ? `, ${megabytes(bytes)}` : ""}`}
        </button>
      )}
    </div>
  );
}
