// A waveform, from the whole to single frames, with marks that are dragged.
import { useCallback, useEffect, useEffectEvent, useMemo, useRef, useState } from "react";
import { answer, api, type Schemas, type TakeView } from "../api/client";
import { useView } from "../state/view";
import { Canvas, MONO, SANS, type Surface } from "./canvas";
import { type By, type Place, useDrag } from "./drag";
import { type Drawable, type Tile, useTiles } from "./tiles";

export interface Mark {
  id: string;
  label: string;
  frame: number;
  /** Which side of the mark its label stands on. */
  side: "left" | "right";
}

/** What of a take is drawn. */
interface DrawnOf {
  id: number;
  frames: number;
  rate_hz: number;
  channels: number;
  cleaned: TakeView["cleaned"];
  sides: string | undefined;
}

/** A take as it is cleaned, or as it was recorded: the same until what is drawn is another sound. */
export function useDrawableTake(take: TakeView, raw: boolean): Drawable {
  const { id, frames, rate_hz, channels, cleaned } = take;
  const sides = take.treatment?.cleaning?.channels?.sides;
  return useMemo(
    () => drawableTake({ id, frames, rate_hz, channels, cleaned, sides }, raw),
    [id, frames, rate_hz, channels, cleaned, sides, raw],
  );
}

function drawableTake(take: DrawnOf, raw: boolean): Drawable {
  const version = take.cleaned && !raw ? ("cleaned" as const) : ("raw" as const);
  return {
    id: `take ${take.id} ${version === "raw" ? "" : take.cleaned}`,
    frames: take.frames,
    rate_hz: take.rate_hz,
    stereo: take.channels === 2 && (version === "raw" || !["sum", "left", "right"].includes(take.sides ?? "both")),
    peaks: async (first, end, columns, channel) =>
      answer(
        await api.GET("/api/takes/{id}/peaks", { params: { path: { id: take.id }, query: { first, end, columns, version, channel } } }),
      ),
  };
}

/** A long take as it was recorded. */
export function useDrawableLongTake(take: Schemas["LongTakeView"]): Drawable {
  const { id, frames, rate_hz, channels } = take;
  return useMemo(() => drawableLongTake({ id, frames, rate_hz, channels }), [id, frames, rate_hz, channels]);
}

function drawableLongTake(take: Pick<Schemas["LongTakeView"], "id" | "frames" | "rate_hz" | "channels">): Drawable {
  return {
    id: `long take ${take.id}`,
    frames: take.frames,
    rate_hz: take.rate_hz,
    stereo: take.channels === 2,
    peaks: async (first, end, columns, channel) =>
      answer(await api.GET("/api/long-takes/{id}/peaks", { params: { path: { id: take.id }, query: { first, end, columns, channel } } })),
  };
}

/** A stretch with a name, drawn under the wave. */
export interface Span {
  first: number;
  end: number;
  name: string;
  kind: "chosen" | "plain" | "doubtful" | "out";
}

interface Props {
  take: Drawable;
  marks: Mark[];
  /** Outside of this the wave is dimmed. */
  heard: [number, number];
  /** A tinted stretch, and the crossfade before its end. */
  tinted?: { start: number; end: number; crossfade: number };
  onDrag: (id: string, frame: number) => void;
  onDrop: (id: string, frame: number) => void;
  /** A drag was broken off: the mark is where it was. */
  onCancel: (id: string, frame: number) => void;
  spans?: Span[];
  /** A click on the wave, not on a mark: where, and on which span. */
  onPlace?: (frame: number, span: number | undefined) => void;
  /** Told when another stretch is looked at. */
  onLook?: (first: number, end: number) => void;
}

const GRIP = 7;
/** No fewer are shown. */
const LEAST_FRAMES = 32;
/** Single frames are seen as points from so many pixels apart. */
const POINTS_APART = 4;
/** The RMS is drawn inside the peaks from so many frames under a pixel. */
const RMS_FRAMES = 64;

export function Waveform({ take, marks, heard, tinted, onDrag, onDrop, onCancel, spans, onPlace, onLook }: Props) {
  const [range, setRange] = useState<[number, number]>([0, take.frames]);
  const [dragging, setDragging] = useState<string | undefined>();
  const [width, setWidth] = useState(700);
  // Another take is seen as a whole.
  const [seen, setSeen] = useState(take);
  if (seen.id !== take.id || seen.frames !== take.frames) {
    setSeen(take);
    setRange([0, take.frames]);
  }
  const [first, end] = range;
  const apart = useView((state) => state.apart) && take.stereo;
  const all = useTiles(take, first, end, width, apart ? 0 : undefined);
  const right = useTiles(take, first, end, width, 1, apart);
  // Touch: where each finger is, and how far apart they were.
  const fingers = useRef(new Map<number, number>());
  const tell = useEffectEvent((first: number, end: number) => onLook?.(first, end));
  useEffect(() => tell(first, end), [first, end]);
  const draw = useCallback(
    ({ ctx, width, height, colours }: Surface) => {
      setWidth(width);
      const x = (frame: number) => ((frame - first) / (end - first)) * width;
      ctx.fillStyle = colours.raised;
      ctx.fillRect(0, 0, width, height);
      if (tinted) {
        ctx.fillStyle = colours.actSoft;
        ctx.fillRect(x(tinted.start), 0, x(tinted.end) - x(tinted.start), height - 20);
        ctx.globalAlpha = 0.18;
        ctx.fillStyle = colours.act;
        ctx.fillRect(x(tinted.end - tinted.crossfade), 0, x(tinted.end) - x(tinted.end - tinted.crossfade), height - 20);
        ctx.fillRect(x(tinted.start - tinted.crossfade), 0, x(tinted.start) - x(tinted.start - tinted.crossfade), height - 20);
        ctx.globalAlpha = 1;
      }
      const sides = apart ? [all.tiles, right.tiles] : [all.tiles];
      const lane = (height - 20) / sides.length;
      const top = Math.max(0.02, ...sides.flatMap((side) => side.map(({ tile, from, to }) => highest(tile, from, to))));
      sides.forEach((side, at) => {
        const middle = lane * (at + 0.5);
        const scale = (lane / 2 - 8 / sides.length) / top;
        for (const { tile, from, to } of side) {
          // Outside of what is heard the wave is dimmed.
          for (const [one, two, alpha] of [
            [from, Math.min(to, heard[0]), 0.3],
            [Math.max(from, heard[0]), Math.min(to, heard[1]), 0.85],
            [Math.max(from, heard[1]), to, 0.3],
          ] as const)
            if (two > one) drawTile(ctx, tile, one, two, { x, middle, scale, alpha, colours });
        }
        ctx.globalAlpha = 1;
      });
      for (const span of spans ?? []) {
        const [from, to] = [x(span.first), x(span.end)];
        if (to < 0 || from > width) continue;
        ctx.fillStyle =
          span.kind === "chosen"
            ? colours.chosen
            : span.kind === "out"
              ? colours.line2
              : span.kind === "doubtful"
                ? colours.chosen
                : colours.actSoft;
        ctx.globalAlpha = span.kind === "chosen" ? 0.75 : 0.45;
        ctx.fillRect(from, 0, Math.max(1, to - from), height - 20);
        ctx.globalAlpha = 1;
        ctx.fillStyle = span.kind === "chosen" ? colours.chosenLine : span.kind === "out" ? colours.line : colours.act;
        ctx.fillRect(from, height - 24, Math.max(1, to - from - 1), 4);
        if (to - from > 22) {
          ctx.font = MONO;
          ctx.textBaseline = "middle";
          ctx.fillStyle = span.kind === "out" ? colours.ink3 : colours.ink;
          ctx.fillText(span.name, from + 3, height - 32, to - from - 4);
        }
      }
      if (all.waiting) {
        ctx.font = SANS;
        ctx.fillStyle = colours.ink3;
        ctx.fillText("Its picture is being drawn…", 12, height / 2);
      }
      drawTimes(ctx, first, end, take.rate_hz, width, height, colours.ink3);
      ctx.font = SANS;
      ctx.textBaseline = "middle";
      const labels: [number, number, number][] = [];
      for (const mark of marks) {
        const at = x(mark.frame);
        if (at < -60 || at > width + 60) continue;
        ctx.fillStyle = mark.id === dragging ? colours.mark : colours.act;
        ctx.fillRect(at - 0.75, 0, 1.5, height - 20);
        const wide = ctx.measureText(mark.label).width + 10;
        const left = mark.side === "right" ? at : at - wide;
        // Where it would lie over another's label it stands under it.
        let row = 0;
        while (labels.some(([from, to, taken]) => taken === row && left < to && from < left + wide)) row += 1;
        labels.push([left, left + wide, row]);
        ctx.fillRect(left, row * 17, wide, 16);
        ctx.fillStyle = colours.raised;
        ctx.fillText(mark.label, left + 5, row * 17 + 8.5);
      }
    },
    [all, right, apart, first, end, marks, heard, tinted, take.rate_hz, dragging, spans],
  );
  const look = (next: (from: number, to: number) => [number, number]) =>
    setRange(([from, to]) => {
      const wished = next(from, to);
      const span = Math.round(Math.min(take.frames, Math.max(LEAST_FRAMES, wished[1] - wished[0])));
      const first = Math.round(Math.min(take.frames - span, Math.max(0, wished[0])));
      return [first, first + span];
    });
  /** Around a place in the picture, 0 to 1, which stays where it is. */
  const zoom = (factor: number, share = 0.5) =>
    look((from, to) => {
      const centre = from + share * (to - from);
      const span = (to - from) * factor;
      return [centre - share * span, centre + (1 - share) * span];
    });
  const move = (share: number) => look((from, to) => [from + share * (to - from), to + share * (to - from)]);
  const within = (frame: number) => Math.min(take.frames, Math.max(0, Math.round(frame)));
  /** Where a mark is that was taken hold of there and dragged so far. */
  const dragged = (mark: Mark, by: By, { width }: Place) => within(mark.frame + (by.x / width) * (end - first));
  // A mark, or else the whole picture.
  const { handlers, cancel } = useDrag<{ mark: Mark } | { range: [number, number] }>({
    take: ({ x, width }) => {
      const at = first + (x / width) * (end - first);
      const near = [...marks].sort((a, b) => Math.abs(a.frame - at) - Math.abs(b.frame - at))[0];
      const isNear = near && Math.abs(near.frame - at) <= (GRIP / width) * (end - first);
      return isNear ? { mark: near } : { range };
    },
    move: (held, by, at) => {
      if ("mark" in held) {
        setDragging(held.mark.id);
        onDrag(held.mark.id, dragged(held.mark, by, at));
      } else {
        const [from, to] = held.range;
        const far = (by.x / at.width) * (to - from);
        look(() => [from - far, to - far]);
      }
    },
    drop: (held, by, at) => {
      setDragging(undefined);
      if ("mark" in held) onDrop(held.mark.id, dragged(held.mark, by, at));
    },
    cancel: (held) => {
      setDragging(undefined);
      if ("mark" in held) onCancel(held.mark.id, held.mark.frame);
      else setRange(held.range);
    },
    click: (held, { x, width }) => {
      if ("mark" in held || !onPlace) return;
      const at = within(first + (x / width) * (end - first));
      const on = (spans ?? []).findIndex((span) => span.first <= at && at < span.end);
      onPlace(at, on < 0 ? undefined : on);
    },
  });
  return (
    <Canvas
      draw={draw}
      role="img"
      data-part="waveform"
      data-first={first}
      data-end={end}
      aria-label={`Waveform, frames ${first} to ${end}. Wheel, + and − zoom; dragging, ← and → move; Home shows all; marks are dragged.`}
      className="touch-none"
      tabIndex={0}
      onWheel={(event, box) => {
        if (event.shiftKey || Math.abs(event.deltaX) > Math.abs(event.deltaY)) move(Math.sign(event.deltaX || event.deltaY) * 0.08);
        else zoom(event.deltaY > 0 ? 1.25 : 0.8, (event.clientX - box.left) / box.width);
      }}
      onKeyDown={(event) => {
        const keys: Record<string, () => void> = {
          "+": () => zoom(0.8),
          "-": () => zoom(1.25),
          ArrowLeft: () => move(-0.1),
          ArrowRight: () => move(0.1),
          Home: () => look(() => [0, take.frames]),
        };
        if (!keys[event.key]) return;
        event.preventDefault();
        event.stopPropagation();
        keys[event.key]!();
      }}
      onDoubleClick={() => look(() => [0, take.frames])}
      {...handlers}
      onPointerDown={(event) => {
        fingers.current.set(event.pointerId, event.clientX);
        // A second finger pinches: nothing is dragged.
        if (fingers.current.size > 1) cancel();
        else handlers.onPointerDown(event);
      }}
      onPointerMove={(event) => {
        const other = [...fingers.current].find(([id]) => id !== event.pointerId)?.[1];
        const before = fingers.current.get(event.pointerId);
        if (other === undefined || before === undefined) return handlers.onPointerMove(event);
        const box = event.currentTarget.getBoundingClientRect();
        const [was, is] = [Math.abs(before - other), Math.abs(event.clientX - other)];
        fingers.current.set(event.pointerId, event.clientX);
        if (was < 4 || is < 4) return;
        zoom(was / is, ((event.clientX + other) / 2 - box.left) / box.width);
      }}
      onPointerUp={(event) => {
        fingers.current.delete(event.pointerId);
        handlers.onPointerUp(event);
      }}
      onPointerCancel={(event) => {
        fingers.current.delete(event.pointerId);
        cancel();
      }}
    />
  );
}

/** Columns of a tile that show frames `from..to`: the first, and the first after. */
function columnsOf({ first, end, low }: Tile, from: number, to: number): [number, number] {
  const step = (end - first) / low.length;
  return [Math.max(0, Math.floor((from - first) / step)), Math.min(low.length, Math.ceil((to - first) / step))];
}

function highest(tile: Tile, from: number, to: number): number {
  const [one, two] = columnsOf(tile, from, to);
  let top = 0;
  for (let n = one; n < two; n++) top = Math.max(top, tile.high[n]!, -tile.low[n]!);
  return top;
}

interface Lane {
  x: (frame: number) => number;
  middle: number;
  scale: number;
  alpha: number;
  colours: Surface["colours"];
}

/** The stretch `from..to` of a tile: its extent with the RMS inside it, or its frames as points on a line. */
function drawTile(ctx: CanvasRenderingContext2D, tile: Tile, from: number, to: number, { x, middle, scale, alpha, colours }: Lane): void {
  const { low, high, rms } = tile;
  const [one, two] = columnsOf(tile, from, to);
  const step = (tile.end - tile.first) / low.length;
  const at = (n: number) => tile.first + n * step;
  const pixels = x(at(one + 1)) - x(at(one));
  ctx.globalAlpha = alpha;
  ctx.fillStyle = colours.wave;
  if (step === 1 && pixels >= POINTS_APART) {
    ctx.beginPath();
    // A frame further on either side, so that tiles join.
    for (let n = Math.max(0, one - 1); n < Math.min(low.length, two + 1); n++) ctx.lineTo(x(at(n)), middle - high[n]! * scale);
    ctx.strokeStyle = colours.wave;
    ctx.lineWidth = 1.2;
    ctx.stroke();
    for (let n = one; n < two; n++) ctx.fillRect(x(at(n)) - 1.5, middle - high[n]! * scale - 1.5, 3, 3);
    return;
  }
  // Pixel by pixel, the extent of all columns that fall on it; each pixel is drawn by one tile alone.
  const [left, right] = [Math.round(x(from)), Math.round(x(to))];
  const perPixel = (to - from) / Math.max(1e-9, x(to) - x(from));
  // At a tile's edge a pixel reaches out of it: as many columns from inside, else a slow wave would look quieter there.
  const fewest = Math.min(two - one, Math.max(1, Math.round(perPixel / step)));
  const boxes = (upper: (n: number) => number, lower: (n: number) => number, least: number) => {
    for (let pixel = left; pixel < right; pixel++) {
      const frame = from + (pixel - x(from)) * perPixel - tile.first;
      let n = Math.max(one, Math.floor(frame / step));
      const last = Math.min(two, Math.max(Math.ceil((frame + perPixel) / step), n + fewest));
      n = Math.max(one, Math.min(n, last - fewest));
      let [highest, lowest] = [upper(n), lower(n)];
      for (n++; n < last; n++) [highest, lowest] = [Math.max(highest, upper(n)), Math.min(lowest, lower(n))];
      // Whole pixels: nothing has to be blended.
      const top = Math.round(middle - highest * scale);
      const tall = Math.round(middle - lowest * scale) - top;
      if (tall >= least) ctx.fillRect(pixel, top, 1, Math.max(1, tall));
    }
  };
  boxes(
    (n) => high[n]!,
    (n) => low[n]!,
    0,
  );
  // Under fewer frames an RMS says nothing: that is the wave itself.
  if (perPixel < RMS_FRAMES) return;
  ctx.fillStyle = colours.raised;
  ctx.globalAlpha = 0.28 * Math.min(1, alpha / 0.85);
  boxes(
    (n) => rms[n]!,
    (n) => -rms[n]!,
    2,
  );
}

function drawTimes(
  ctx: CanvasRenderingContext2D,
  first: number,
  end: number,
  rate: number,
  width: number,
  height: number,
  colour: string,
): void {
  const span = (end - first) / rate;
  const step =
    [0.0001, 0.0002, 0.0005, 0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 30, 60, 300].find((s) => span / s <= 8) ??
    600;
  ctx.font = MONO;
  ctx.fillStyle = colour;
  ctx.textBaseline = "middle";
  for (let n = Math.ceil(first / rate / step); n * step <= end / rate; n++) {
    const x = ((n * step * rate - first) / (end - first)) * width;
    if (x + 62 < width) ctx.fillText(timeOf(n * step, step), x + 3, height - 10);
  }
}

/** A time in the unit that its size and the steps between times want: 12.5 ms, 3.2 s, 11:04.95. */
function timeOf(seconds: number, step: number): string {
  const places = (of: number) => Math.max(0, Math.ceil(-Math.log10(of) - 1e-9));
  if (seconds < 1 && step < 0.1) return `${(seconds * 1000).toFixed(places(step * 1000))} ms`;
  if (seconds < 60) return `${seconds.toFixed(places(step))} s`;
  const rest = (seconds % 60).toFixed(places(step));
  return `${Math.floor(seconds / 60)}:${rest.padStart(places(step) > 0 ? places(step) + 3 : 2, "0")}`;
}
