// The worst of each cell, and how loud every key is heard, softly and hard.
import type { BoardCell } from "../model/cells";
import type { FindingView, Findings } from "../model/findings";
import type { Box, Plot } from "../parts/Board";
import { SANS, type Surface } from "../parts/canvas";

export function paintFinding({ ctx, colours }: Surface, cell: BoardCell, box: Box, finding: FindingView | undefined): void {
  const middle = box.y + box.height / 2;
  if (!finding) {
    if (!cell.take) return;
    ctx.fillStyle = colours.line;
    ctx.fillRect(box.x + box.width / 2 - 8, middle - 0.5, 16, 1);
    return;
  }
  const colour = finding.wrong ? colours.mark : colours.chosenLine;
  ctx.fillStyle = colour;
  ctx.globalAlpha = 0.16;
  ctx.beginPath();
  ctx.roundRect(box.x, box.y, box.width, box.height, Math.min(4, box.height / 2));
  ctx.fill();
  ctx.globalAlpha = 1;
  ctx.beginPath();
  ctx.arc(box.x + Math.min(12, box.width / 2), middle, Math.min(3.5, box.height / 2), 0, 7);
  ctx.fill();
  if (box.height < 11 || box.width < 70) return;
  ctx.font = SANS;
  ctx.textBaseline = "middle";
  ctx.fillStyle = colours.ink;
  const room = box.width - 26;
  let words = finding.title.toLowerCase();
  while (words.length > 3 && ctx.measureText(words).width > room) words = `${words.slice(0, -2)}…`;
  ctx.fillText(words, box.x + 20, middle);
}

/** Levels are read down to so far under the loudest. */
const RANGE_DB = 36;

export function levelPlot(findings: Findings | undefined): Plot {
  const keys = findings?.keys ?? [];
  const heard = keys.flatMap(({ level_dbfs }) => (level_dbfs == null ? [] : [level_dbfs]));
  const high = Math.ceil(Math.max(-40, ...heard) / 6) * 6;
  const strikes = [...new Set(keys.map(({ strike }) => strike))].sort((a, b) => a - b);
  return {
    title: "level as heard",
    low: high - RANGE_DB,
    high,
    value: () => undefined,
    show: (value) => `${value.toFixed(1)} dBFS`,
    lines: strikes.map((strike, n) => ({
      loud: n,
      points: keys
        .filter((one) => one.strike === strike && one.level_dbfs != null)
        .sort((a, b) => a.key - b.key)
        .map((one): [number, number] => [one.key, one.level_dbfs!]),
    })),
  };
}
