// A canvas that fits its place and is drawn anew when what it shows changes.
import { useEffect, useRef, useState } from "react";

export interface Palette {
  paper: string; sheet: string; raised: string; ink: string; ink3: string; line: string; line2: string;
  act: string; actSoft: string; chosen: string; chosenLine: string; warn: string; mark: string; wave: string;
}

export function palette(): Palette {
  const style = getComputedStyle(document.documentElement);
  const colour = (name: string) => style.getPropertyValue(`--color-${name}`).trim();
  return {
    paper: colour("paper"), sheet: colour("sheet"), raised: colour("raised"), ink: colour("ink"), ink3: colour("ink3"),
    line: colour("line"), line2: colour("line2"), act: colour("act"), actSoft: colour("act-soft"), chosen: colour("chosen"),
    chosenLine: colour("chosen-line"), warn: colour("warn"), mark: colour("mark"), wave: colour("wave"),
  };
}

export interface Surface {
  ctx: CanvasRenderingContext2D;
  width: number;
  height: number;
  colours: Palette;
}

export const MONO = '11px "Spline Sans Mono Variable", monospace';
export const SANS = '11px "Instrument Sans Variable", sans-serif';

interface Props extends Omit<React.CanvasHTMLAttributes<HTMLCanvasElement>, "width" | "height"> {
  draw: (surface: Surface) => void;
}

export function Canvas({ draw, className, ...rest }: Props) {
  const ref = useRef<HTMLCanvasElement>(null);
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
      canvas.width = size.width * scale;
      canvas.height = size.height * scale;
      ctx.scale(scale, scale);
      draw({ ctx, ...size, colours: palette() });
    });
    return () => cancelAnimationFrame(frame);
  }, [draw, size]);
  return <canvas ref={ref} className={className} style={{ width: "100%", height: "100%", position: "absolute", inset: 0 }} {...rest} />;
}
