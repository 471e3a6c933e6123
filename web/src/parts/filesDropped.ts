// Files that are dropped on a place of a picture.
import type { DragEvent } from "react";
import { filesOf } from "../state/sending";
import { sayError } from "../state/view";
import type { Place } from "./drag";

function placeOf(event: DragEvent): Place {
  const box = event.currentTarget.getBoundingClientRect();
  return { x: event.clientX - box.left, y: event.clientY - box.top, width: box.width, height: box.height };
}

/** Handlers: `over` shows where they would go, nothing where they have left, and says whether that is a place; `drop` takes them. */
export function filesDropped(over: (at: Place | undefined) => boolean, drop: (at: Place, files: File[]) => void) {
  return {
    onDragOver: (event: DragEvent) => {
      if (!event.dataTransfer.types.includes("Files")) return;
      event.preventDefault();
      event.dataTransfer.dropEffect = over(placeOf(event)) ? "copy" : "none";
    },
    onDragLeave: () => void over(undefined),
    onDrop: (event: DragEvent) => {
      event.preventDefault();
      const at = placeOf(event);
      over(undefined);
      void filesOf(event.dataTransfer.items)
        .then((files) => drop(at, files))
        .catch(sayError);
    },
  };
}
