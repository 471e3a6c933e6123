// A planned cell: its strike and its hold.
import type { Plan } from "../api/client";
import type { BoardCell } from "../model/cells";
import type { Box } from "../parts/Board";
import { MONO, type Surface } from "../parts/canvas";

export function paintPlan({ ctx, colours }: Surface, plan: Plan, cell: BoardCell, box: Box): void {
  const pass = plan.passes[cell.cell.pass];
  const layer = pass?.layers[cell.cell.layer];
  if (!pass || !layer) return;
  ctx.strokeStyle = colours.line;
  ctx.setLineDash([3, 3]);
  ctx.strokeRect(box.x + 0.5, box.y + 0.5, box.width - 1, Math.max(1, box.height - 1));
  ctx.setLineDash([]);
  if (box.height < 12 || box.width < 60) return;
  ctx.font = MONO;
  ctx.textBaseline = "middle";
  ctx.fillStyle = colours.ink3;
  ctx.fillText(String(layer.strike_velocity), box.x + 8, box.y + box.height / 2);
  const hold = `${pass.hold_ms / 1000} s`;
  ctx.fillText(hold, box.x + box.width - 8 - ctx.measureText(hold).width, box.y + box.height / 2);
}
