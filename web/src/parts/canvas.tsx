// A canvas that fits its place and is drawn anew when what it shows changes.
import { useEffect, useEffectEvent, useRef, useState } from "react";
import { useShade } from "../state/settings";

export interface Palette {
  paper: string;
  sheet: string;
  raised: string;
  ink: string;
  ink3: string;
  line: string;
  line2: string;
  act: string;
  actSoft: string;
  chosen: string;
  chosenLine: string;
  warn: string;
  mark: string;
  wave: string;
  layerSoft: string;
  layerMiddle: string;
  layerLoud: string;
  keyWhite: string;
  keyBlack: string;
  keyLine: string;
  keyDot: string;
  keyDotOnBlack: string;
}

let known: Palette | undefined;
useShade.subscribe(() => (known = undefined));

export function palette(): Palette {
  known ??= readPalette();
  return known;
}

function readPalette(): Palette {
  const style = getComputedStyle(document.documentElement);
  const colour = (name: string) => style.getPropertyValue(`--color-${name}`).trim();
  return {
    paper: colour("paper"),
    sheet: colour("sheet"),
    raised: colour("raised"),
    ink: colour("ink"),
    ink3: colour("ink3"),
    line: colour("line"),
    line2: colour("line2"),
    act: colour("act"),
    actSoft: colour("act-soft"),
    chosen: colour("chosen"),
    chosenLine: colour("chosen-line"),
    warn: colour("warn"),
    mark: colour("mark"),
    wave: colour("wave"),
    layerSoft: colour("layer-soft"),
    layerMiddle: colour("layer-middle"),
    layerLoud: colour("layer-loud"),
    keyWhite: colour("key-white"),
    keyBlack: colour("key-black"),
    keyLine: colour("key-line"),
    keyDot: colour("key-dot"),
    keyDotOnBlack: colour("key-dot-on-black"),
  };
}

/** Red, green and blue of a colour of the palette, 0 to 255. */
export function rgb(colour: string): number[] {
  return [1, 3, 5].map((at) => Number.parseInt(colour.slice(at, at + 2), 16));
}

/** Between two colours of the palette. */
export function between(from: string, to: string, share: number): string {
  const end = rgb(to);
  return `rgb(${rgb(from)
    .map((c, i) => Math.round(c + (end[i]! - c) * share))
    .join(" ")})`;
}

/** Soft to loud: the louder, the further from the ground. */
export function layerColour({ layerSoft, layerMiddle, layerLoud }: Palette, layer: number, layers: number): string {
  const at = layers <= 1 ? 1 : layer / (layers - 1);
  return at < 0.5 ? between(layerSoft, layerMiddle, at * 2) : between(layerMiddle, layerLoud, at * 2 - 1);
}

export interface Surface {
  ctx: CanvasRenderingContext2D;
  width: number;
  height: number;
  colours: Palette;
}

export const MONO = '11px "Spline Sans Mono Variable", monospace';
export const SANS = '11px "Instrument Sans Variable", sans-serif';

interface Props extends Omit<React.CanvasHTMLAttributes<HTMLCanvasElement>, "width" | "height" | "onWheel"> {
  draw: (surface: Surface) => void;
  /** What it does instead of scrolling what lies around it. */
  onWheel?: (event: WheelEvent, box: DOMRect) => void;
}

export function Canvas({ draw, className, onWheel, ...rest }: Props) {
  const ref = useRef<HTMLCanvasElement>(null);
  const turn = useEffectEvent((event: WheelEvent, box: DOMRect) => {
    if (!onWheel) return;
    event.preventDefault();
    onWheel(event, box);
  });
  useEffect(() => {
    const canvas = ref.current;
    if (!canvas) return;
    const turned = (event: WheelEvent) => turn(event, canvas.getBoundingClientRect());
    // React listens passively: what is turned here would scroll the page as well.
    canvas.addEventListener("wheel", turned, { passive: false });
    return () => canvas.removeEventListener("wheel", turned);
  }, []);
  const shade = useShade((state) => state.shade);
  const [size, setSize] = useState({ width: 0, height: 0 });
  useEffect(() => {
    const canvas = ref.current;
    if (!canvas?.parentElement) return;
    const observer = new ResizeObserver(([entry]) => {
      if (entry) setSize({ width: Math.floor(entry.contentRect.width), height: Math.floor(entry.contentRect.height) });
    });
    observer.observe(canvas.parentElement);
    return () => observer.disconnect();
  }, []);
  useEffect(() => {
    const canvas = ref.current;
    const ctx = canvas?.getContext("2d");
    if (!canvas || !ctx || size.width === 0) return;
    const frame = requestAnimationFrame(() => {
      const scale = window.devicePixelRatio || 1;
      const [width, height] = [Math.round(size.width * scale), Math.round(size.height * scale)];
      // Setting a size, even the same, makes the canvas anew.
      if (canvas.width !== width || canvas.height !== height) [canvas.width, canvas.height] = [width, height];
      ctx.setTransform(scale, 0, 0, scale, 0, 0);
      ctx.clearRect(0, 0, size.width, size.height);
      draw({ ctx, ...size, colours: palette() });
    });
    return () => cancelAnimationFrame(frame);
  }, [draw, size, shade]);
  return <canvas ref={ref} className={className} style={{ width: "100%", height: "100%", position: "absolute", inset: 0 }} {...rest} />;
}
