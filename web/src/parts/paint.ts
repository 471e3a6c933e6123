// What a cell shows, step by step.
import type { BoardCell } from "../model/cells";
import type { Box } from "./Board";
import type { Surface } from "./canvas";

export type Thumbs = { columns: number; takes: Record<string, string> } | undefined;

/** The waveform of a cell's take; outside of `heard` it is dimmed. */
export function paintWave({ ctx, colours }: Surface, cell: BoardCell, box: Box, colour: string, thumbs: Thumbs, foot = 0): void {
  const take = cell.take;
  const hex = take && thumbs?.takes[String(take.id)];
  const height = box.height - foot;
  const middle = box.y + height / 2;
  if (!take || !hex) {
    ctx.fillStyle = take ? colour : colours.line;
    if (box.height > 5) ctx.fillRect(box.x + box.width * 0.4, middle - 0.5, box.width * 0.2, 1);
    return;
  }
  if (box.height < 7 || box.width < 24) {
    // From afar: a bar.
    ctx.fillStyle = colour;
    ctx.fillRect(box.x, box.y, box.width, box.height);
    return;
  }
  const columns = hex.length / 2;
  const values = Array.from({ length: columns }, (_, n) => parseInt(hex.slice(n * 2, n * 2 + 2), 16) / 255);
  // Quiet layers are drawn taller than they are, so that their shape is seen: the square root of the level.
  const treatment = take.treatment;
  const step = (box.width - 4) / columns;
  values.forEach((value, n) => {
    const frame = (take.frames * (n + 0.5)) / columns;
    const dim = treatment && (frame < treatment.start_frame || frame > treatment.end_frame);
    ctx.globalAlpha = dim ? 0.3 : 1;
    ctx.fillStyle = colour;
    const tall = Math.max(1, Math.sqrt(value) * (height - 3));
    ctx.fillRect(box.x + 2 + n * step, middle - tall / 2, Math.max(0.8, step), tall);
  });
  ctx.globalAlpha = 1;
}
