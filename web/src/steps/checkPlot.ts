// The worst of each cell, and what is heard of every key, softly and hard.
import type { BoardCell } from "../model/cells";
import type { FindingView, Findings } from "../model/findings";
import type { Box, Plot } from "../parts/Board";
import { SANS, type Surface } from "../parts/canvas";
import type { HeardWhat } from "../state/view";

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

/** How each is shown beside the board: its title, the least span that is shown, and its unit. */
const HEARD = {
  level_dbfs: { title: "level as heard", span: 36, unit: "dBFS", digits: 1 },
  cents: { title: "pitch as heard", span: 30, unit: "ct", digits: 1 },
  brightness_key: { title: "brightness as heard", span: 24, unit: "st", digits: 1 },
} as const;
/** Values are read in lines of so much. */
const ROUND = 6;

/** What is heard of keys, softly and hard, beside what their neighbours tell. */
export function heardPlot(findings: Findings | undefined, what: HeardWhat, walked?: { key: number; strike: number }): Plot {
  const { title, span, unit, digits } = HEARD[what];
  const keys = findings?.keys ?? [];
  const expected = findings?.expected ?? [];
  const values = keys.flatMap((one) => (one[what] == null ? [] : [one[what]]));
  const least = Math.min(...values);
  const most = Math.max(what === "level_dbfs" ? -40 : -Infinity, ...values);
  // Levels hang from the loudest; the others lie around their middle.
  const middle = Number.isFinite(least) ? (least + most) / 2 : 0;
  const wide = Math.max(span, Number.isFinite(least) && what !== "level_dbfs" ? (most - least) * 1.1 : 0);
  const high = what === "level_dbfs" ? Math.ceil(most / ROUND) * ROUND : middle + wide / 2;
  const strikes = [...new Set(keys.map(({ strike }) => strike))].sort((a, b) => a - b);
  const at = (strike: number, of: (n: number) => number | null | undefined) =>
    keys
      .flatMap((one, n): [number, number][] => {
        const value = of(n);
        return one.strike === strike && value != null ? [[one.key, value]] : [];
      })
      .sort((a, b) => a[0] - b[0]);
  const here = walked && keys.find(({ key, strike }) => key === walked.key && strike === walked.strike)?.[what];
  return {
    title,
    low: high - wide,
    high,
    value: () => undefined,
    show: (value) => `${value.toFixed(digits)} ${unit}`,
    lines: strikes.flatMap((strike, n) => [
      { loud: n, dashed: true, points: at(strike, (of) => expected[of]?.[what]) },
      { loud: n, points: at(strike, (of) => keys[of]![what]) },
    ]),
    ...(walked && here != null ? { at: { key: walked.key, value: here } } : {}),
  };
}
