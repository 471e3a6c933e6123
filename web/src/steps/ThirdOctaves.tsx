// Thirds of octaves of two sounds over each other.
import { useCallback } from "react";
import { meanBands, type PassageBeside, thirdHz } from "../model/beside";
import { Canvas, MONO, type Surface } from "../parts/canvas";

/** So many dB are drawn. */
const SPAN_DB = 60;

/** The first of both as a line, the other dashed. */
export function ThirdOctaves({ passages, names }: { passages: PassageBeside[]; names: [string, string] }) {
  const draw = useCallback(
    ({ ctx, width, height, colours }: Surface) => {
      const both = [meanBands(passages, "source"), meanBands(passages, "built")];
      const top = Math.ceil(Math.max(-60, ...both.flat().filter((db) => db !== undefined)) / 10) * 10;
      const bands = both[0]!.length;
      const [left, bottom] = [34, 16];
      const x = (n: number) => left + ((n + 0.5) / bands) * (width - left - 6);
      const y = (db: number) => ((top - db) / SPAN_DB) * (height - bottom);
      ctx.font = MONO;
      ctx.textBaseline = "middle";
      ctx.fillStyle = colours.ink3;
      ctx.strokeStyle = colours.line2;
      for (let db = top - 10; db > top - SPAN_DB; db -= 10) {
        ctx.beginPath();
        ctx.moveTo(left, y(db));
        ctx.lineTo(width - 6, y(db));
        ctx.stroke();
        if (db % 20 === 0) ctx.fillText(String(db), 2, y(db));
      }
      ctx.textAlign = "center";
      for (const hz of [50, 100, 200, 500, 1000, 2000, 5000, 10000]) {
        const n = Math.log10(hz / thirdHz(0)) * 10;
        ctx.fillText(hz < 1000 ? String(hz) : `${hz / 1000}k`, x(n), height - 6);
      }
      ctx.textAlign = "left";
      both.forEach((values, which) => {
        ctx.strokeStyle = which === 0 ? colours.ink : colours.act;
        ctx.lineWidth = 1.6;
        ctx.setLineDash(which === 0 ? [] : [5, 4]);
        ctx.beginPath();
        let down = false;
        values.forEach((db, n) => {
          if (db === undefined) {
            down = false;
            return;
          }
          if (down) ctx.lineTo(x(n), Math.min(y(db), height - bottom));
          else ctx.moveTo(x(n), Math.min(y(db), height - bottom));
          down = true;
        });
        ctx.stroke();
        // A band that is alone is no line.
        ctx.fillStyle = which === 0 ? colours.ink : colours.act;
        values.forEach((db, n) => {
          if (db !== undefined) ctx.fillRect(x(n) - 2, Math.min(y(db), height - bottom) - (which === 0 ? 2 : 1), 4, which === 0 ? 4 : 2);
        });
      });
      ctx.setLineDash([]);
    },
    [passages],
  );
  return (
    <figure>
      <div className="relative h-[150px]">
        <Canvas draw={draw} className="size-full" role="img" aria-label="Thirds of octaves of both" />
      </div>
      <figcaption className="text-[12px] text-ink3">
        Thirds of octaves in dBFS while it is held: {names[0]}, and {names[1]} dashed
      </figcaption>
    </figure>
  );
}
