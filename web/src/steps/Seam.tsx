// The seam of a loop, drawn.
import { useCallback } from "react";
import type { Schemas } from "../api/client";
import { Canvas, MONO, type Surface } from "../parts/canvas";

/** Half of what the seam view shows. */
const SEAM_MS = 12;

/** What will be heard, end running into start, with what each would have gone on to be, and what does not fit. */
export function Seam({ sides }: { sides: Schemas["SeamView"] }) {
  const draw = useCallback(
    ({ ctx, width, height, colours }: Surface) => {
      ctx.fillStyle = colours.raised;
      ctx.fillRect(0, 0, width, height);
      ctx.fillStyle = colours.paper;
      ctx.fillRect(0, 0, width / 2, height);
      const count = Math.min(sides.end.length, sides.start.length);
      if (count === 0) return;
      const top = Math.max(1e-4, ...sides.end.map(Math.abs), ...sides.start.map(Math.abs));
      const middle = height / 2 - 6;
      const x = (n: number) => (n / count) * width;
      const y = (v: number) => middle - (v / top) * (middle - 6);
      ctx.fillStyle = colours.chosenLine;
      ctx.globalAlpha = 0.4;
      for (let n = 0; n < count; n++) {
        const off = Math.abs(sides.end[n]! - sides.start[n]!) / top;
        ctx.fillRect(x(n), height - 14 - off * 24, Math.max(1, width / count), off * 24);
      }
      ctx.globalAlpha = 1;
      const line = (values: number[], from: number, to: number, colour: string, dash: number[]) => {
        ctx.beginPath();
        ctx.setLineDash(dash);
        for (let n = from; n < to; n++) ctx.lineTo(x(n), y(values[n]!));
        ctx.strokeStyle = colour;
        ctx.lineWidth = dash.length ? 1 : 1.6;
        ctx.stroke();
        ctx.setLineDash([]);
      };
      const half = Math.floor(count / 2);
      line(sides.start, 0, half, colours.mark, [2, 3]);
      line(sides.end, half, count, colours.mark, [2, 3]);
      line(sides.heard, 0, count, colours.wave, []);
      ctx.fillStyle = colours.act;
      ctx.fillRect(width / 2, 0, 1.2, height - 14);
      ctx.font = MONO;
      ctx.fillStyle = colours.ink3;
      ctx.textBaseline = "middle";
      ctx.fillText(`−${SEAM_MS} ms`, 6, height - 6);
      ctx.fillText(`+${SEAM_MS} ms`, width - 54, height - 6);
    },
    [sides],
  );
  return <Canvas draw={draw} role="img" aria-label="The seam: the loop's end running into its start" />;
}
