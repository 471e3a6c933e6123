// All cells, laid out by pitch, with one narrow plot on the same axis. One canvas; the same cells stand in a grid for keyboard and screen reader.
import { useCallback, useMemo, useRef, useState } from "react";
import type { Plan, Schemas, TakeView } from "../api/client";
import { type BoardCell, layerColumns, layerOf, passOf, turnOf } from "../model/cells";
import { keyName } from "../model/keys";
import { useView } from "../state/view";
import { Canvas, layerColour, MONO, SANS, type Surface } from "./canvas";
import { useDrag } from "./drag";
import { HEADER, keyAt, laneTop, underHead, useLook } from "./Ladder";

export interface Box {
  x: number;
  y: number;
  width: number;
  height: number;
}

export interface Plot {
  title: string;
  low: number;
  high: number;
  /** Where a line stands: the wanted value. */
  line?: number;
  value: (take: TakeView) => number | undefined;
  /** Instead of a take's value: one that a cell has by itself. */
  ofCell?: (cell: BoardCell) => number | undefined;
  /** Where it stood before it was treated, drawn hollow. */
  before?: (take: TakeView) => number | undefined;
  show: (value: number) => string;
  /** Where a take is expected to lie among its neighbours, drawn as a line. */
  expected?: (take: TakeView) => number | undefined;
  /** Whether each layer is expected to lie on a line of its own. */
  byLayer?: boolean;
  /** 0 good, 1 to check, 2 wrong; by how far it lies from what is expected, and by what else is known of the take. */
  verdict?: (value: number, expected: number | undefined, take: TakeView | undefined) => 0 | 1 | 2;
  /** What a take is marked for where it should have a value and has none: it stands at the far end, in these words. */
  missing?: { what: Schemas["Missing"]; says: string };
  /** Whether both directions are bad, not the higher one alone. */
  bothWays?: boolean;
  /** Lines along the keys, of what has no cell: in the colour of a layer, 0 soft to 1 loud. */
  lines?: { loud: number; points: [key: number, value: number][]; dashed?: boolean }[];
  /** Where on those lines one is now. */
  at?: { key: number; value: number };
}

interface Props {
  plan: Plan;
  cells: BoardCell[];
  plot?: Plot;
  paint: (surface: Surface, cell: BoardCell, box: Box, colour: string) => void;
}

const PLOT_WIDTH = 140;

function lacks(plot: Plot, cell: BoardCell): boolean {
  return plot.missing !== undefined && (cell.take?.missing.includes(plot.missing.what) ?? false);
}

function valueOf(plot: Plot, cell: BoardCell): number | undefined {
  if (lacks(plot, cell)) return plot.high;
  return plot.ofCell ? plot.ofCell(cell) : cell.take && plot.value(cell.take);
}

function wordsOf(plot: Plot, cell: BoardCell, value: number): string {
  return lacks(plot, cell) ? plot.missing!.says : plot.show(value);
}

function expectedOf(plot: Plot, cell: BoardCell): number | undefined {
  return cell.take && plot.expected?.(cell.take);
}

function verdictOf(plot: Plot, cell: BoardCell, value: number): 0 | 1 | 2 {
  if (lacks(plot, cell)) return 1;
  return plot.verdict?.(value, expectedOf(plot, cell), cell.take) ?? 0;
}

/** Cells to look at, worst first: by the plot's verdict, then by how far they lie from its line or from the others. */
export function worstFirst(plot: Plot, cells: BoardCell[]): BoardCell[] {
  const known = cells.flatMap((cell) => {
    const value = valueOf(plot, cell);
    return value === undefined ? [] : [{ cell, value }];
  });
  const sorted = known.map((k) => k.value).sort((a, b) => a - b);
  const middle = plot.line ?? sorted[Math.floor(sorted.length / 2)] ?? 0;
  const worth = ({ cell, value }: { cell: BoardCell; value: number }) => {
    const off = value - (expectedOf(plot, cell) ?? middle);
    return verdictOf(plot, cell, value) * 1e6 + (plot.verdict && !plot.bothWays ? off : Math.abs(off));
  };
  return known.sort((a, b) => worth(b) - worth(a)).map((k) => k.cell);
}

export function toCheck(plot: Plot, cells: BoardCell[]): BoardCell[] {
  return cells.filter((cell) => {
    const value = valueOf(plot, cell);
    return value !== undefined && verdictOf(plot, cell, value) > 0;
  });
}

function wheres(cells: BoardCell[]) {
  const rungs = [...new Set(cells.map((c) => c.cell.key))].sort((a, b) => a - b);
  const gap = rungs.slice(1).reduce((least, key, n) => Math.min(least, key - rungs[n]!), 12);
  return { rungs, gap, columns: Math.max(1, ...cells.map((c) => c.column + 1)) };
}

export function Board({ plan, cells, plot, paint }: Props) {
  const { low, keys, focus, chosen, choose } = useView();
  const [hover, setHover] = useState<string | undefined>();
  const [drag, setDrag] = useState<{ x: number; y: number; x2: number; y2: number } | undefined>();
  const size = useRef({ width: 1, height: 1 });
  const onWheel = useLook();
  const { gap, columns } = useMemo(() => wheres(cells), [cells]);
  const shown = cells[0] && passOf(plan, cells[0].cell);
  const layers = useMemo(() => shown?.layers ?? [], [shown]);

  const boxOf = useCallback(
    (cell: BoardCell, width: number, height: number): Box => {
      const lane = (height - HEADER) / keys;
      const inner = width - (plot ? PLOT_WIDTH : 0);
      const column = inner / columns;
      const tall = Math.max(2, Math.min(gap * lane - 3, 46));
      const middle = laneTop(cell.cell.key, low, keys, height) + lane / 2;
      return { x: cell.column * column + 4, y: middle - tall / 2, width: column - 8, height: tall };
    },
    [low, keys, columns, gap, plot],
  );

  const draw = useCallback(
    (surface: Surface) => {
      const { ctx, width, height, colours } = surface;
      size.current = { width, height };
      const inner = width - (plot ? PLOT_WIDTH : 0);
      underHead(surface, () => {
        ctx.fillStyle = colours.line2;
        for (let key = low; key < low + keys; key++) if (key % 12 === 0) ctx.fillRect(0, laneTop(key - 1, low, keys, height), width, 1);
        for (const cell of cells) {
          const box = boxOf(cell, width, height);
          if (box.y + box.height < HEADER || box.y > height) continue;
          const isChosen = chosen.has(cell.id);
          ctx.beginPath();
          ctx.roundRect(box.x, box.y, box.width, box.height, Math.min(4, box.height / 2));
          ctx.fillStyle = isChosen ? colours.chosen : colours.paper;
          ctx.fill();
          paint(surface, cell, box, layerColour(colours, cell.layer, layers.length));
          if (isChosen || cell.id === hover) {
            ctx.beginPath();
            ctx.roundRect(box.x, box.y, box.width, box.height, Math.min(4, box.height / 2));
            ctx.strokeStyle = isChosen ? colours.chosenLine : colours.ink3;
            ctx.lineWidth = cell.id === focus ? 2 : 1;
            ctx.stroke();
          }
        }
        if (plot) {
          const laneOf = (key: number) => laneTop(key, low, keys, height) + (height - HEADER) / keys / 2;
          drawPlot(surface, plot, cells, inner, boxOf, layers.length, focus, laneOf);
        }
        if (drag) {
          ctx.strokeStyle = colours.act;
          ctx.strokeRect(Math.min(drag.x, drag.x2), Math.min(drag.y, drag.y2), Math.abs(drag.x2 - drag.x), Math.abs(drag.y2 - drag.y));
        }
      });
      drawHeader(
        surface,
        inner,
        layers.map((layer) => layer.name),
        layerColumns(shown),
        plot,
      );
    },
    [cells, plot, low, keys, boxOf, paint, focus, chosen, hover, drag, layers, shown],
  );

  const cellAt = (x: number, y: number): BoardCell | undefined => {
    const { width, height } = size.current;
    const inner = width - (plot ? PLOT_WIDTH : 0);
    if (x > inner && plot) {
      // In the plot, the nearest dot of the row.
      const key = keyAt(y, low, keys, height);
      const at = (cell: BoardCell) => dotAt(plot, cell, inner);
      const row = cells.filter((c) => Math.abs(c.cell.key - key) <= gap / 2 && at(c) !== undefined);
      return row.sort((a, b) => Math.abs(at(a)! - x) - Math.abs(at(b)! - x))[0];
    }
    return cells.find((cell) => {
      const box = boxOf(cell, width, height);
      return x >= box.x - 3 && x <= box.x + box.width + 3 && y >= box.y - 1 && y <= box.y + box.height + 1;
    });
  };
  const pick = (cell: BoardCell, event: { shiftKey: boolean; ctrlKey: boolean; metaKey: boolean }) => {
    if (event.ctrlKey || event.metaKey) {
      const next = new Set(chosen);
      if (!next.delete(cell.id)) next.add(cell.id);
      choose(cell.id, next);
    } else if (event.shiftKey && focus) {
      const from = cells.find((c) => c.id === focus);
      if (!from) return;
      const [a, b] = [Math.min(from.cell.key, cell.cell.key), Math.max(from.cell.key, cell.cell.key)];
      const [c, d] = [Math.min(from.column, cell.column), Math.max(from.column, cell.column)];
      const within = cells.filter((x) => x.cell.key >= a && x.cell.key <= b && x.column >= c && x.column <= d);
      choose(cell.id, new Set(within.map((x) => x.id)));
    } else {
      choose(cell.id, new Set([cell.id]));
    }
  };
  const place = (event: React.PointerEvent<HTMLCanvasElement>) => {
    const box = event.currentTarget.getBoundingClientRect();
    return { x: event.clientX - box.left, y: event.clientY - box.top };
  };
  // From an empty place a box is drawn, and what lies in it is chosen.
  const { handlers } = useDrag<{ x: number; y: number }>({
    take: ({ x, y }, event) => {
      const cell = cellAt(x, y);
      if (cell) pick(cell, event);
      return cell ? undefined : { x, y };
    },
    move: (from, _, at) => setDrag({ ...from, x2: at.x, y2: at.y }),
    drop: (from, _, { x, y, width, height }) => {
      const [l, r] = [Math.min(from.x, x), Math.max(from.x, x)];
      const [t, b] = [Math.min(from.y, y), Math.max(from.y, y)];
      const inside = cells.filter((cell) => {
        const box = boxOf(cell, width, height);
        return box.x < r && box.x + box.width > l && box.y < b && box.y + box.height > t;
      });
      setDrag(undefined);
      if (inside[0]) choose(inside[0].id, new Set(inside.map((cell) => cell.id)));
    },
    cancel: () => setDrag(undefined),
  });
  const hovered = cells.find((cell) => cell.id === hover);
  const hoverValue = hovered && plot ? valueOf(plot, hovered) : undefined;
  return (
    <div className="absolute inset-0">
      <Canvas
        draw={draw}
        data-part="board"
        aria-hidden
        title={
          hovered ? `${nameOf(hovered, plan)}${hoverValue === undefined ? "" : `: ${wordsOf(plot!, hovered, hoverValue)}`}` : undefined
        }
        onWheel={onWheel}
        {...handlers}
        onPointerMove={(event) => {
          handlers.onPointerMove(event);
          const at = place(event);
          if (!drag) setHover(cellAt(at.x, at.y)?.id);
        }}
      />
      <div role="listbox" aria-multiselectable aria-label="Cells" className="sr-only">
        {cells.map((cell) => (
          <button
            key={cell.id}
            role="option"
            aria-selected={chosen.has(cell.id)}
            data-cell={cell.id}
            tabIndex={cell.id === focus ? 0 : -1}
            onClick={(event) => pick(cell, event)}
          >
            {nameOf(cell, plan)}
            {plot ? `, ${plot.title} ${((value) => (value === undefined ? "none" : wordsOf(plot, cell, value)))(valueOf(plot, cell))}` : ""}
          </button>
        ))}
      </div>
    </div>
  );
}

export function nameOf(cell: BoardCell, plan: Plan): string {
  return `${keyName(cell.cell.key)} ${layerOf(plan, cell.cell)?.name ?? ""}${turnOf(plan, cell.cell)}`;
}

function dotAt(plot: Plot, cell: BoardCell, inner: number): number | undefined {
  const value = valueOf(plot, cell);
  if (value === undefined) return undefined;
  const share = (value - plot.low) / (plot.high - plot.low);
  return inner + 10 + Math.min(1, Math.max(0, share)) * (PLOT_WIDTH - 20);
}

function drawPlot(
  { ctx, height, colours }: Surface,
  plot: Plot,
  cells: BoardCell[],
  inner: number,
  boxOf: (cell: BoardCell, width: number, height: number) => Box,
  layers: number,
  focus: string | undefined,
  laneOf: (key: number) => number,
): void {
  ctx.fillStyle = colours.line;
  ctx.fillRect(inner, 0, 1, height);
  if (plot.line !== undefined) {
    const x = inner + 10 + ((plot.line - plot.low) / (plot.high - plot.low)) * (PLOT_WIDTH - 20);
    ctx.fillRect(x, HEADER, 1, height);
  }
  // The instrument's own curve, from rung to rung; where its layers lie apart, one for each.
  const curves = new Map<number, Map<number, { x: number; y: number }>>();
  for (const cell of cells) {
    const expected = expectedOf(plot, cell);
    const layer = plot.byLayer ? cell.layer : 0;
    const curve = curves.get(layer) ?? new Map<number, { x: number; y: number }>();
    if (expected === undefined || curve.has(cell.cell.key)) continue;
    const box = boxOf(cell, inner + PLOT_WIDTH, height);
    const share = Math.min(1, Math.max(0, (expected - plot.low) / (plot.high - plot.low)));
    curves.set(layer, curve.set(cell.cell.key, { x: inner + 10 + share * (PLOT_WIDTH - 20), y: box.y + box.height / 2 }));
  }
  for (const line of plot.lines ?? []) {
    ctx.beginPath();
    for (const [key, value] of line.points) {
      const share = Math.min(1, Math.max(0, (value - plot.low) / (plot.high - plot.low)));
      ctx.lineTo(inner + 10 + share * (PLOT_WIDTH - 20), laneOf(key));
    }
    ctx.lineWidth = line.dashed ? 1 : 1.6;
    ctx.setLineDash(line.dashed ? [3, 3] : []);
    ctx.strokeStyle = line.dashed ? colours.ink3 : layerColour(colours, line.loud, 2);
    ctx.stroke();
  }
  ctx.setLineDash([]);
  if (plot.at) {
    const share = Math.min(1, Math.max(0, (plot.at.value - plot.low) / (plot.high - plot.low)));
    ctx.beginPath();
    ctx.arc(inner + 10 + share * (PLOT_WIDTH - 20), laneOf(plot.at.key), 5, 0, 7);
    ctx.lineWidth = 2;
    ctx.strokeStyle = colours.chosenLine;
    ctx.stroke();
  }
  ctx.lineWidth = 1;
  for (const [layer, curve] of curves) {
    ctx.beginPath();
    for (const [, at] of [...curve].sort((a, b) => a[0] - b[0])) ctx.lineTo(at.x, at.y);
    ctx.strokeStyle = plot.byLayer ? layerColour(colours, layer, layers) : colours.ink3;
    ctx.stroke();
  }
  for (const cell of cells) {
    const x = dotAt(plot, cell, inner);
    const value = valueOf(plot, cell);
    if (x === undefined || value === undefined) continue;
    const box = boxOf(cell, inner + PLOT_WIDTH, height);
    const verdict = verdictOf(plot, cell, value);
    const y = box.y + box.height / 2 + (layers > 1 ? (cell.layer / (layers - 1) - 0.5) * Math.min(8, box.height / 2) : 0);
    const before = cell.take && plot.before?.(cell.take);
    if (before !== undefined) {
      const from = inner + 10 + Math.min(1, Math.max(0, (before - plot.low) / (plot.high - plot.low))) * (PLOT_WIDTH - 20);
      ctx.strokeStyle = colours.ink3;
      ctx.lineWidth = 1;
      ctx.beginPath();
      ctx.arc(from, y, 2.6, 0, 7);
      ctx.moveTo(from, y);
      ctx.lineTo(x, y);
      ctx.stroke();
    }
    ctx.beginPath();
    ctx.arc(x, y, cell.id === focus ? 4.5 : 3.2, 0, 7);
    ctx.fillStyle = layerColour(colours, cell.layer, layers);
    ctx.fill();
    if (verdict > 0 || cell.id === focus) {
      ctx.lineWidth = 1.8;
      ctx.strokeStyle = verdict === 2 ? colours.mark : colours.chosenLine;
      ctx.stroke();
    }
  }
}

function drawHeader({ ctx, width, colours }: Surface, inner: number, layers: string[], starts: number[], plot: Plot | undefined): void {
  ctx.fillStyle = colours.sheet;
  ctx.fillRect(0, 0, width, HEADER);
  ctx.fillStyle = colours.line;
  ctx.fillRect(0, HEADER - 1, width, 1);
  ctx.font = SANS;
  ctx.textBaseline = "middle";
  const one = inner / Math.max(1, starts.at(-1) ?? 1);
  layers.forEach((name, n) => {
    const [from, to] = [starts[n]! * one, starts[n + 1]! * one];
    if (n > 0) {
      ctx.fillStyle = colours.line2;
      ctx.fillRect(from, 0, 1, HEADER);
    }
    ctx.fillStyle = layerColour(colours, n, layers.length);
    ctx.fillRect(from + 8, HEADER / 2 - 4, 8, 8);
    ctx.fillStyle = colours.ink3;
    if (to - from > 30) ctx.fillText(name, from + 21, HEADER / 2, to - from - 24);
  });
  if (!plot) return;
  ctx.fillStyle = colours.line;
  ctx.fillRect(inner, 0, 1, HEADER);
  ctx.fillStyle = colours.ink3;
  ctx.fillText(plot.title, inner + 8, HEADER / 2);
  ctx.font = MONO;
  const ends = `${plot.low}…${plot.high}`.replaceAll("-", "−");
  ctx.fillText(ends, width - 8 - ctx.measureText(ends).width, HEADER / 2);
}
