// The keyboard, upright at the left of every step. Clicking a key plays it: further right is louder.
import { useCallback, useMemo, useRef, useState } from "react";
import { isBlack, keyName } from "../model/keys";
import { player, useSound } from "../sound/player";
import { useView } from "../state/view";
import { Canvas, MONO, type Surface } from "./canvas";
import { filesDropped } from "./filesDropped";

export const HEADER = 34;

/** Top of a key's lane, in pixels from the board's top. */
export function laneTop(key: number, low: number, keys: number, height: number): number {
  return HEADER + ((low + keys - 1 - key) * (height - HEADER)) / keys;
}

/** Paints what lies under the head of a board, and nothing of it over that. */
export function underHead({ ctx, width, height, colours }: Surface, paint: () => void): void {
  ctx.fillStyle = colours.sheet;
  ctx.fillRect(0, 0, width, height);
  ctx.save();
  ctx.beginPath();
  ctx.rect(0, HEADER, width, height - HEADER);
  ctx.clip();
  paint();
  ctx.restore();
}

export function keyAt(y: number, low: number, keys: number, height: number): number {
  return low + keys - 1 - Math.floor(((y - HEADER) * keys) / (height - HEADER));
}

/** Wheel scrolls the ladder and the board; with Ctrl it zooms about the key under the pointer. */
export function useLook(): (event: WheelEvent, box: DOMRect) => void {
  return useCallback((event, box) => {
    const { low, keys, look } = useView.getState();
    if (event.ctrlKey) {
      const next = Math.round(keys * (event.deltaY > 0 ? 1.12 : 1 / 1.12)) || keys;
      const share = 1 - (event.clientY - box.top) / box.height;
      look(Math.round(low + share * (keys - next)), next);
    } else {
      look(low - Math.sign(event.deltaY) * 2, keys);
    }
  }, []);
}

interface Props {
  rungs: number[];
  /** Where files can be dropped: what is done with them on a key. */
  onFiles?: ((key: number, files: File[]) => void) | undefined;
}

export function Ladder({ rungs, onFiles }: Props) {
  const { low, keys } = useView();
  const hands = useSound((sound) => sound.held);
  const phrase = useSound((sound) => sound.meter.phrase?.keys);
  const held = useMemo(() => new Set([...hands, ...(phrase ?? [])]), [hands, phrase]);
  const short = useSound((sound) => sound.meter.short);
  const [over, setOver] = useState<number | undefined>();
  const playing = useRef<number | undefined>(undefined);
  const onWheel = useLook();
  const draw = useCallback(
    ({ ctx, width, height, colours }: Surface) => {
      const lane = (height - HEADER) / keys;
      const labels = 26;
      ctx.fillStyle = colours.sheet;
      ctx.fillRect(0, 0, width, height);
      const has = new Set(rungs);
      for (let key = low; key < low + keys; key++) {
        const top = laneTop(key, low, keys, height);
        ctx.fillStyle = held.has(key) ? colours.actSoft : colours.keyWhite;
        ctx.fillRect(labels, top, width - labels, lane);
        if (isBlack(key)) {
          ctx.fillStyle = held.has(key) ? colours.act : colours.keyBlack;
          ctx.fillRect(labels, top, (width - labels) * 0.6, lane);
        }
        if (!isBlack(key) && !isBlack(key + 1)) {
          ctx.fillStyle = colours.keyLine;
          ctx.fillRect(labels, top, width - labels, 1);
        } else {
          ctx.fillStyle = colours.keyLine;
          ctx.fillRect(labels + (width - labels) * 0.6, isBlack(key) ? top + lane / 2 : top, (width - labels) * 0.4, isBlack(key) ? 1 : 0);
        }
        if (has.has(key)) {
          ctx.beginPath();
          ctx.fillStyle = isBlack(key) ? colours.keyDotOnBlack : colours.keyDot;
          ctx.arc(isBlack(key) ? labels + (width - labels) * 0.45 : width - 10, top + lane / 2, Math.min(3, lane / 2.4), 0, 7);
          ctx.fill();
        }
        // What could not be heard to its end.
        if (short.includes(key)) {
          ctx.fillStyle = colours.mark;
          ctx.fillRect(labels - 4, top + 1, 3, lane - 2);
        }
        if (key % 12 === 0) {
          ctx.fillStyle = colours.ink3;
          ctx.font = MONO;
          ctx.textBaseline = "middle";
          ctx.fillText(keyName(key), 3, top + lane / 2);
        }
      }
      if (over !== undefined) {
        ctx.strokeStyle = colours.act;
        ctx.lineWidth = 2;
        ctx.strokeRect(1, laneTop(over, low, keys, height), width - 3, lane);
      }
      ctx.fillStyle = colours.line;
      ctx.fillRect(width - 1, 0, 1, height);
      ctx.fillRect(0, HEADER - 1, width, 1);
    },
    [low, keys, held, rungs, over, short],
  );
  const strike = (event: React.PointerEvent<HTMLCanvasElement>) => {
    const box = event.currentTarget.getBoundingClientRect();
    const key = keyAt(event.clientY - box.top, low, keys, box.height);
    if (key === playing.current || event.clientY - box.top < HEADER) return;
    if (playing.current !== undefined) player.off(playing.current);
    playing.current = key;
    void player.on(key, Math.round(Math.min(127, Math.max(20, ((event.clientX - box.left) / box.width) * 127))));
  };
  const release = () => {
    if (playing.current !== undefined) player.off(playing.current);
    playing.current = undefined;
  };
  return (
    <Canvas
      draw={draw}
      aria-label="Ladder: click a key to play it, further right is louder"
      data-part="ladder"
      data-low={low}
      data-keys={keys}
      data-short={short.join(" ")}
      onWheel={onWheel}
      onPointerDown={(event) => {
        const { pick } = useView.getState();
        if (pick) {
          const box = event.currentTarget.getBoundingClientRect();
          pick(keyAt(event.clientY - box.top, low, keys, box.height));
          return;
        }
        event.currentTarget.setPointerCapture(event.pointerId);
        strike(event);
      }}
      onPointerMove={(event) => {
        if (playing.current !== undefined) strike(event);
      }}
      onPointerUp={release}
      onPointerCancel={release}
      {...(onFiles &&
        filesDropped(
          (at) => {
            const key = at && keyAt(at.y, low, keys, at.height);
            setOver(key);
            return key !== undefined && key >= 0 && key < 128;
          },
          (at, files) => onFiles(keyAt(at.y, low, keys, at.height), files),
        ))}
    />
  );
}
