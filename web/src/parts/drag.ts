// The one way of dragging: it begins after a few pixels, shows at once, is kept when it is let go, and is taken back by Escape or a lost pointer.
import { type PointerEvent, useEffect, useEffectEvent, useRef, useState } from "react";

/** Less than so many pixels is a click. */
const THRESHOLD = 4;

/** Where the pointer is, in pixels from the corner of what is dragged on. */
export interface Place {
  x: number;
  y: number;
  width: number;
  height: number;
}

/** How far it was dragged. */
export interface By {
  x: number;
  y: number;
}

export interface Dragged<T> {
  /** What is taken hold of at a place; `undefined` leaves the press to others. */
  take: (at: Place, event: PointerEvent) => T | undefined;
  /** Told at each move. */
  move: (held: T, by: By, at: Place, event: PointerEvent) => void;
  /** Let go: it is kept. */
  drop: (held: T, by: By, at: Place, event: PointerEvent) => void;
  /** Broken off: what was shown is taken back. */
  cancel: (held: T) => void;
  /** Let go where it was pressed: nothing was dragged. */
  click?: (held: T, at: Place, event: PointerEvent) => void;
}

function placeOf(event: PointerEvent): Place {
  const box = event.currentTarget.getBoundingClientRect();
  return { x: event.clientX - box.left, y: event.clientY - box.top, width: box.width, height: box.height };
}

/** Handlers for what is dragged, and what breaks it off. */
export function useDrag<T>(dragged: Dragged<T>) {
  const held = useRef<{ what: T; pointer: number; x: number; y: number; moves: boolean } | undefined>(undefined);
  const [holds, setHolds] = useState(false);
  const letGo = () => {
    const was = held.current;
    held.current = undefined;
    setHolds(false);
    return was;
  };
  const cancel = () => {
    const was = letGo();
    if (was?.moves) dragged.cancel(was.what);
  };
  const breakOff = useEffectEvent(cancel);
  useEffect(() => {
    if (!holds) return undefined;
    const escape = (event: KeyboardEvent) => {
      if (event.key !== "Escape") return;
      event.stopPropagation();
      breakOff();
    };
    window.addEventListener("keydown", escape, true);
    return () => window.removeEventListener("keydown", escape, true);
  }, [holds]);
  const by = (event: PointerEvent): By => ({ x: event.clientX - (held.current?.x ?? 0), y: event.clientY - (held.current?.y ?? 0) });
  const handlers = {
    onPointerDown: (event: PointerEvent) => {
      if (held.current || event.button !== 0) return;
      const what = dragged.take(placeOf(event), event);
      if (what === undefined) return;
      event.currentTarget.setPointerCapture(event.pointerId);
      held.current = { what, pointer: event.pointerId, x: event.clientX, y: event.clientY, moves: false };
      setHolds(true);
    },
    onPointerMove: (event: PointerEvent) => {
      const now = held.current;
      if (!now || now.pointer !== event.pointerId) return;
      const far = by(event);
      now.moves ||= Math.hypot(far.x, far.y) >= THRESHOLD;
      if (now.moves) dragged.move(now.what, far, placeOf(event), event);
    },
    onPointerUp: (event: PointerEvent) => {
      const now = held.current;
      if (!now || now.pointer !== event.pointerId) return;
      const far = by(event);
      letGo();
      if (now.moves) dragged.drop(now.what, far, placeOf(event), event);
      else dragged.click?.(now.what, placeOf(event), event);
    },
    onPointerCancel: cancel,
    onLostPointerCapture: () => {
      if (held.current) cancel();
    },
  };
  return { handlers, cancel };
}
