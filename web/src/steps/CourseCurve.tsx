// A course over time, as a curve that is dragged.
import { useEffect, useRef, useState } from "react";
import { type Course, type Frame, type Handle, isBend, type Point } from "../model/shape";
import { useDrag } from "../parts/drag";

/** A handle is taken hold of from so many pixels. */
const GRIP = 12;
const HEIGHT = 96;
const EDGE = 8;

interface Props<T> {
  /** As it is shown, while it is dragged too. */
  course: (frame: Frame) => Course;
  /** What a handle says once it is dragged. */
  dragged: (handle: Handle, by: { x: number; y: number }, frame: Frame) => Partial<T>;
  onLive: (to: Partial<T> | undefined) => void;
  onKeep: (handle: Handle, to: Partial<T>) => void;
}

export function CourseCurve<T>({ course, dragged, onLive, onKeep }: Props<T>) {
  const ref = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(400);
  useEffect(() => {
    if (!ref.current) return undefined;
    const observer = new ResizeObserver(([entry]) => entry && setWidth(Math.max(100, entry.contentRect.width - 2 * EDGE)));
    observer.observe(ref.current);
    return () => observer.disconnect();
  }, []);
  const frame: Frame = { width, height: HEIGHT };
  const { points, handles, keyUp } = course(frame);
  const placed = Object.entries(handles) as [Handle, Point][];
  const { handlers } = useDrag<Handle>({
    take: (at) => {
      const near = placed
        .map(([handle, { x, y }]) => ({ handle, far: Math.hypot(x + EDGE - at.x, y + EDGE - at.y) }))
        .sort((a, b) => a.far - b.far)[0];
      return near && near.far <= GRIP ? near.handle : undefined;
    },
    move: (handle, by) => onLive(dragged(handle, by, frame)),
    drop: (handle, by) => onKeep(handle, dragged(handle, by, frame)),
    cancel: () => onLive(undefined),
  });
  const line = points.map(({ x, y }) => `${x.toFixed(1)},${y.toFixed(1)}`).join(" ");
  return (
    <div ref={ref} data-part="course" className="relative touch-none rounded-lg select-none bg-sheet" {...handlers}>
      <svg width="100%" height={HEIGHT + 2 * EDGE} aria-hidden className="block">
        <g transform={`translate(${EDGE} ${EDGE})`}>
          <polygon points={`0,${HEIGHT} ${line}`} className="fill-act-soft" />
          <line x1={0} x2={width} y1={HEIGHT} y2={HEIGHT} className="stroke-line" />
          <line x1={keyUp} x2={keyUp} y1={0} y2={HEIGHT} strokeDasharray="3 3" className="stroke-chosen-line" />
          <text x={keyUp - 5} y={HEIGHT - 6} textAnchor="end" className="num fill-ink3 text-[11px]">
            key up
          </text>
          <polyline points={line} fill="none" strokeWidth={2} className="stroke-act" />
          {placed.map(([handle, { x, y }]) =>
            isBend(handle) ? (
              <rect
                key={handle}
                data-handle={handle}
                x={x - 3}
                y={y - 3}
                width={6}
                height={6}
                className="cursor-ns-resize fill-act stroke-none"
              />
            ) : (
              <circle
                key={handle}
                data-handle={handle}
                cx={x}
                cy={y}
                r={4.5}
                strokeWidth={2}
                className="cursor-grab fill-raised stroke-act"
              />
            ),
          )}
        </g>
      </svg>
    </div>
  );
}
