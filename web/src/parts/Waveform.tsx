// A waveform, from the whole to single frames, with marks that are dragged.
import { useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { answer, api, type Schemas, type TakeView } from "../api/client";
import { useView } from "../state/view";
import { Canvas, MONO, SANS, type Surface } from "./canvas";

export interface Mark {
  id: string;
  label: string;
  frame: number;
  /** Which side of the mark its label stands on. */
  side: "left" | "right";
}

/** What can be drawn: a take, or a long take. */
export interface Drawable {
  id: string;
  frames: number;
  rate_hz: number;
  /** Whether left and right can be shown apart. */
  stereo: boolean;
  /** Of all channels, or of one. */
  peaks: (first: number, end: number, columns: number, channel?: number) => Promise<Schemas["PeaksView"]>;
}

/** A take as it is cleaned, or as it was recorded. */
export function drawableTake(take: TakeView, raw = false): Drawable {
  const version = take.cleaned && !raw ? "cleaned" as const : "raw" as const;
  return {
    id: `take ${take.id} ${version === "raw" ? "" : take.cleaned}`,
    frames: take.frames,
    rate_hz: take.rate_hz,
    stereo: take.channels === 2 && (version === "raw" || !["sum", "left", "right"].includes(take.treatment?.cleaning?.channels?.sides ?? "both")),
    peaks: async (first, end, columns, channel) => answer(await api.GET("/api/takes/{id}/peaks", { params: { path: { id: take.id }, query: { first, end, columns, version, channel } } })),
  };
}

export function drawableLongTake(take: Schemas["LongTakeView"]): Drawable {
  return {
    id: `long take ${take.id}`,
    frames: take.frames,
    rate_hz: take.rate_hz,
    stereo: false,
    peaks: async (first, end, columns) => answer(await api.GET("/api/long-takes/{id}/peaks", { params: { path: { id: take.id }, query: { first, end, columns } } })),
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
  spans?: Span[];
  /** A click on the wave, not on a mark: where, and on which span. */
  onPlace?: (frame: number, span: number | undefined) => void;
  /** Told when another stretch is looked at. */
  onLook?: (first: number, end: number) => void;
}

const GRIP = 7;

export function Waveform({ take, marks, heard, tinted, onDrag, onDrop, spans, onPlace, onLook }: Props) {
  const [range, setRange] = useState<[number, number]>([0, take.frames]);
  const [dragging, setDragging] = useState<string | undefined>();
  const pan = useRef<{ x: number; range: [number, number] } | undefined>(undefined);
  const [columns, setColumns] = useState(700);
  useEffect(() => setRange([0, take.frames]), [take.id, take.frames]);
  const [first, end] = range;
  const apart = useView((state) => state.apart) && take.stereo;
  const peaks = useQuery({
    queryKey: ["peaks", take.id, first, end, columns, apart ? "left" : "all"],
    queryFn: () => take.peaks(first, end, columns, apart ? 0 : undefined),
    // The overview of a long recording is drawn by a job: until then it is asked for again.
    retry: 60,
    retryDelay: 500,
    staleTime: Infinity,
    gcTime: 60_000,
    placeholderData: (previous) => previous,
  });
  const right = useQuery({
    queryKey: ["peaks", take.id, first, end, columns, "right"],
    queryFn: () => take.peaks(first, end, columns, 1),
    enabled: apart,
    staleTime: Infinity,
    gcTime: 60_000,
    placeholderData: (previous) => previous,
  });
  // Touch: where each finger is, and how far apart they were.
  const fingers = useRef(new Map<number, number>());
  const drawn = useMemo(() => [peaks.data, ...(apart ? [right.data] : [])].filter((side) => side !== undefined), [peaks.data, right.data, apart]);
  const draw = useCallback(
    ({ ctx, width, height, colours }: Surface) => {
      setColumns(Math.min(2048, width));
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
      const lane = (height - 20) / Math.max(1, drawn.length);
      const top = Math.max(0.02, ...drawn.flatMap((side) => [...side.high.map(Math.abs), ...side.low.map(Math.abs)]));
      drawn.forEach((side, at) => {
        const middle = lane * (at + 0.5);
        const scale = (lane / 2 - 8 / drawn.length) / top;
        const step = width / side.low.length;
        ctx.fillStyle = colours.wave;
        side.low.forEach((low, n) => {
          const frame = first + ((end - first) * n) / side.low.length;
          ctx.globalAlpha = frame < heard[0] || frame >= heard[1] ? 0.3 : 0.85;
          ctx.fillRect(n * step, middle - side.high[n]! * scale, Math.max(1, step), Math.max(1, (side.high[n]! - low) * scale));
        });
        // RMS inside the peaks.
        ctx.fillStyle = colours.raised;
        ctx.globalAlpha = 0.28;
        side.rms.forEach((rms, n) => {
          if (rms * scale > 1) ctx.fillRect(n * step, middle - rms * scale, Math.max(1, step), 2 * rms * scale);
        });
        ctx.globalAlpha = 1;
      });
      for (const span of spans ?? []) {
        const [from, to] = [x(span.first), x(span.end)];
        if (to < 0 || from > width) continue;
        ctx.fillStyle = span.kind === "chosen" ? colours.chosen : span.kind === "out" ? colours.line2 : span.kind === "doubtful" ? colours.chosen : colours.actSoft;
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
      if (drawn.length === 0 && peaks.failureCount > 0) {
        ctx.font = SANS;
        ctx.fillStyle = colours.ink3;
        ctx.fillText("Its picture is being drawn…", 12, height / 2);
      }
      drawTimes(ctx, first, end, take.rate_hz, width, height, colours.ink3);
      ctx.font = SANS;
      ctx.textBaseline = "middle";
      for (const mark of marks) {
        const at = x(mark.frame);
        if (at < -60 || at > width + 60) continue;
        ctx.fillStyle = mark.id === dragging ? colours.mark : colours.act;
        ctx.fillRect(at - 0.75, 0, 1.5, height - 20);
        const wide = ctx.measureText(mark.label).width + 10;
        const left = mark.side === "right" ? at : at - wide;
        ctx.fillRect(left, 0, wide, 16);
        ctx.fillStyle = colours.raised;
        ctx.fillText(mark.label, left + 5, 8.5);
      }
    },
    [drawn, first, end, marks, heard, tinted, take.rate_hz, dragging, spans, peaks.failureCount],
  );
  const frameAt = (event: React.PointerEvent<HTMLCanvasElement>) => {
    const box = event.currentTarget.getBoundingClientRect();
    return Math.round(first + ((event.clientX - box.left) / box.width) * (end - first));
  };
  const look = (next: [number, number]) => {
    const span = Math.min(take.frames, Math.max(32, next[1] - next[0]));
    const from = Math.round(Math.min(take.frames - span, Math.max(0, next[0])));
    setRange([from, from + Math.round(span)]);
    onLook?.(from, from + Math.round(span));
  };
  return (
    <Canvas
      draw={draw}
      role="img"
      data-part="waveform"
      data-first={first}
      data-end={end}
      aria-label={`Waveform, frames ${first} to ${end}. Wheel zooms, dragging moves; marks are dragged.`}
      style={undefined}
      className="touch-none"
      tabIndex={0}
      onWheel={(event) => {
        const box = event.currentTarget.getBoundingClientRect();
        const share = (event.clientX - box.left) / box.width;
        const span = (end - first) * (event.deltaY > 0 ? 1.25 : 0.8);
        const centre = first + share * (end - first);
        look([centre - share * span, centre + (1 - share) * span]);
      }}
      onKeyDown={(event) => {
        const span = end - first;
        if (event.key === "+") look([first + span * 0.1, end - span * 0.1]);
        else if (event.key === "-") look([first - span * 0.125, end + span * 0.125]);
        else return;
        event.stopPropagation();
      }}
      onDoubleClick={() => look([0, take.frames])}
      onPointerDown={(event) => {
        event.currentTarget.setPointerCapture(event.pointerId);
        fingers.current.set(event.pointerId, event.clientX);
        if (fingers.current.size > 1) {
          // A second finger pinches: nothing is dragged.
          setDragging(undefined);
          pan.current = undefined;
          return;
        }
        const width = event.currentTarget.getBoundingClientRect().width;
        const grip = (GRIP / width) * (end - first);
        const at = frameAt(event);
        const near = [...marks].sort((a, b) => Math.abs(a.frame - at) - Math.abs(b.frame - at))[0];
        if (near && Math.abs(near.frame - at) <= grip) setDragging(near.id);
        else pan.current = { x: event.clientX, range };
      }}
      onPointerMove={(event) => {
        const other = [...fingers.current].find(([id]) => id !== event.pointerId)?.[1];
        const before = fingers.current.get(event.pointerId);
        if (other !== undefined && before !== undefined) {
          const box = event.currentTarget.getBoundingClientRect();
          const [was, is] = [Math.abs(before - other), Math.abs(event.clientX - other)];
          fingers.current.set(event.pointerId, event.clientX);
          if (was < 4 || is < 4) return;
          const span = ((end - first) * was) / is;
          const share = ((event.clientX + other) / 2 - box.left) / box.width;
          const centre = first + share * (end - first);
          look([centre - share * span, centre + (1 - share) * span]);
        } else if (dragging) onDrag(dragging, Math.min(take.frames, Math.max(0, frameAt(event))));
        else if (pan.current) {
          const width = event.currentTarget.getBoundingClientRect().width;
          const by = ((pan.current.x - event.clientX) / width) * (end - first);
          look([pan.current.range[0] + by, pan.current.range[1] + by]);
        }
      }}
      onPointerCancel={(event) => {
        fingers.current.delete(event.pointerId);
        setDragging(undefined);
        pan.current = undefined;
      }}
      onPointerUp={(event) => {
        fingers.current.delete(event.pointerId);
        if (dragging) onDrop(dragging, Math.min(take.frames, Math.max(0, frameAt(event))));
        else if (pan.current && Math.abs(pan.current.x - event.clientX) < 4 && onPlace) {
          const at = Math.min(take.frames, Math.max(0, frameAt(event)));
          const on = (spans ?? []).findIndex((span) => span.first <= at && at < span.end);
          onPlace(at, on < 0 ? undefined : on);
        }
        setDragging(undefined);
        pan.current = undefined;
      }}
    />
  );
}

function drawTimes(ctx: CanvasRenderingContext2D, first: number, end: number, rate: number, width: number, height: number, colour: string): void {
  const span = (end - first) / rate;
  const step = [0.0005, 0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 30, 60, 300].find((s) => span / s <= 8) ?? 600;
  ctx.font = MONO;
  ctx.fillStyle = colour;
  ctx.textBaseline = "middle";
  for (let n = Math.ceil(first / rate / step); n * step <= end / rate; n++) {
    const at = n * step;
    const text = step < 0.1 ? `${(at * 1000).toFixed(step < 0.001 ? 1 : 0)} ms` : `${at.toFixed(step < 1 ? 1 : 0)} s`;
    const x = ((at * rate - first) / (end - first)) * width;
    if (x + 46 < width) ctx.fillText(text, x + 3, height - 10);
  }
}
