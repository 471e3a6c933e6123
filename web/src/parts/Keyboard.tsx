// Keys side by side, from the lowest that sounds to the highest: played by mouse and touch, lower on a key is louder.
import { type PointerEvent, useEffect, useMemo, useRef, useState } from "react";
import type { InstrumentView } from "../api/client";
import { isBlack, keyName } from "../model/keys";
import { player, useSound } from "../sound/player";
import { sayError } from "../state/view";

type Program = InstrumentView["program"];

/** An octave at least. */
const LEAST_KEYS = 12;

/** The lowest and the highest key that something answers to, from white key to white key. */
export function keysOf({ regions }: Program): [low: number, high: number] {
  const heard = regions.filter(({ when }) => when.keys.low <= when.keys.high);
  let low = heard.reduce((least, { when }) => Math.min(least, when.keys.low), 127);
  let high = heard.reduce((most, { when }) => Math.max(most, when.keys.high), 0);
  if (low > high) [low, high] = [48, 72];
  if (high - low < LEAST_KEYS) high = Math.min(127, low + LEAST_KEYS);
  if (isBlack(low)) low -= 1;
  if (isBlack(high)) high += 1;
  return [low, high];
}

/** A white key is as wide as a finger at least. */
const FINGER_PX = 30;

/** The part of the keys that there is room for; the rest is an octave away. */
export function KeyboardInReach({ program }: { program: Program }) {
  const [low, high] = useMemo(() => keysOf(program), [program]);
  const [fits, setFits] = useState<number>();
  const [from, setFrom] = useState<number>();
  const ground = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const watch = new ResizeObserver(([entry]) => setFits(Math.max(7, Math.floor((entry?.contentRect.width ?? 0) / FINGER_PX))));
    watch.observe(ground.current!);
    return () => watch.disconnect();
  }, []);
  const whites = Array.from({ length: high - low + 1 }, (_, n) => low + n).filter((key) => !isBlack(key));
  const isAll = fits === undefined || whites.length <= fits;
  // At first around middle C.
  const first = isAll
    ? 0
    : Math.min(whites.length - fits, Math.max(0, from ?? whites.findIndex((key) => key >= 60) - Math.floor(fits / 2)));
  const span: [number, number] = isAll ? [low, high] : [whites[first]!, whites[first + fits - 1]!];
  const octave = (by: number, name: string) => (
    <button className="button h-full px-2!" aria-label={name} onClick={() => setFrom(first + by)}>
      {by < 0 ? "‹" : "›"}
    </button>
  );
  return (
    <div ref={ground} className="flex size-full">
      {!isAll && octave(-7, "An octave down")}
      <div className="min-w-0 grow">
        <Keyboard program={program} span={span} />
      </div>
      {!isAll && octave(7, "An octave up")}
    </div>
  );
}

export function Keyboard({ program, span }: { program: Program; span?: [low: number, high: number] }) {
  const held = useSound((sound) => sound.held);
  const whole = useMemo(() => keysOf(program), [program]);
  const [low, high] = span ?? whole;
  const all = Array.from({ length: high - low + 1 }, (_, n) => low + n);
  const whites = all.filter((key) => !isBlack(key));
  const width = 100 / whites.length;
  /** The key that each finger or the mouse holds. */
  const fingers = useRef(new Map<number, number>());
  const keyAt = (event: PointerEvent): { key: number; velocity: number } | undefined => {
    const under = document.elementFromPoint(event.clientX, event.clientY)?.closest<HTMLElement>("[data-key]");
    if (!under || !event.currentTarget.contains(under)) return undefined;
    const box = under.getBoundingClientRect();
    const down = Math.min(1, Math.max(0, (event.clientY - box.top) / box.height));
    return { key: Number(under.dataset["key"]), velocity: Math.max(1, Math.round(127 * down)) };
  };
  const release = (pointer: number) => {
    const key = fingers.current.get(pointer);
    fingers.current.delete(pointer);
    if (key !== undefined && ![...fingers.current.values()].includes(key)) player.off(key);
  };
  const press = (event: PointerEvent) => {
    const at = keyAt(event);
    if (at?.key === fingers.current.get(event.pointerId)) return;
    release(event.pointerId);
    if (!at) return;
    fingers.current.set(event.pointerId, at.key);
    void player.on(at.key, at.velocity).catch(sayError);
  };
  const place = (key: number) => whites.filter((white) => white < key).length;
  return (
    <div
      role="group"
      aria-label={`Keys from ${keyName(low)} to ${keyName(high)}`}
      data-part="keyboard"
      className="relative size-full touch-none select-none"
      onPointerDown={(event) => {
        if (event.button !== 0) return;
        event.currentTarget.setPointerCapture(event.pointerId);
        press(event);
      }}
      onPointerMove={(event) => fingers.current.has(event.pointerId) && press(event)}
      onPointerUp={(event) => release(event.pointerId)}
      onPointerCancel={(event) => release(event.pointerId)}
      onLostPointerCapture={(event) => release(event.pointerId)}
    >
      {all.map((key) => {
        const black = isBlack(key);
        const left = black ? place(key) * width - 0.31 * width : place(key) * width;
        return (
          <div
            key={key}
            data-key={key}
            title={keyName(key)}
            className={`absolute top-0 border-key-line ${
              black
                ? `z-10 h-3/5 rounded-b ${held.has(key) ? "bg-act" : "bg-key-black"}`
                : `h-full border-r border-b first:border-l ${held.has(key) ? "bg-chosen" : "bg-key-white"}`
            }`}
            style={{ left: `${left}%`, width: `${black ? 0.62 * width : width}%` }}
          />
        );
      })}
    </div>
  );
}
