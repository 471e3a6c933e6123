// A planned cell: its strike and its hold; and how far the keys below its rung are stretched.
import type { Plan, Schemas } from "../api/client";
import { type BoardCell, holdAt, layerOf, passOf } from "../model/cells";
import type { Box, Plot } from "../parts/Board";
import { MONO, type Surface } from "../parts/canvas";

export function paintPlan(
  { ctx, colours }: Surface,
  plan: Plan,
  figures: Schemas["PassFigures"][] | undefined,
  cell: BoardCell,
  box: Box,
): void {
  const pass = passOf(plan, cell.cell);
  const layer = layerOf(plan, cell.cell);
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
  const hold = `${holdAt(pass, figures?.[plan.passes.indexOf(pass)], cell.cell.key) / 1000} s`;
  ctx.fillText(hold, box.x + box.width - 8 - ctx.measureText(hold).width, box.y + box.height / 2);
}

/** Keys between a rung and the one below it are this rung's, stretched down. */
export function planPlot(plan: Plan): Plot {
  return {
    title: "stretch, keys",
    low: 0,
    high: 12,
    line: 2,
    value: () => undefined,
    ofCell: (cell) => {
      const rungs = passOf(plan, cell.cell)?.rungs ?? [];
      const at = rungs.indexOf(cell.cell.key);
      return at > 0 ? cell.cell.key - rungs[at - 1]! - 1 : undefined;
    },
    show: (value) => `${value} ${value === 1 ? "key" : "keys"} down, ×${(2 ** (value / 12)).toFixed(2)} as long`,
    verdict: (value) => (value > 7 ? 2 : value > 4 ? 1 : 0),
  };
}
