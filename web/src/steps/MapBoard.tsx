// What sounds where: the regions of one strand on keys and strikes, taken hold of at their sides.
import { useCallback, useMemo, useState } from "react";
import type { InstrumentView } from "../api/client";
import { cellId, layerPlace } from "../model/cells";
import { inWords, keyName } from "../model/keys";
import {
  chosenRegions,
  extentIn,
  type Extent,
  inTurnWith,
  moved,
  neighbours,
  placedRegions,
  type Placed,
  type Side,
  snapped,
  turnsOf,
  withSide,
} from "../model/regions";
import { heldStrand } from "../model/strands";
import { Canvas, layerColour, MONO, SANS, type Surface } from "../parts/canvas";
import { type By, type Place, useDrag } from "../parts/drag";
import { HEADER, laneTop, useLook } from "../parts/Ladder";
import { useSound } from "../sound/player";
import { useMap } from "../state/map";
import { useView } from "../state/view";
import { keepExtents } from "./mapFacts";
import { Split } from "./Split";

const STRETCH = 112;
/** A side is taken hold of from so many pixels. */
const GRIP = 6;
/** A border snaps to others from so many steps of strike. */
const SNAP = 3;

/** What of a region is held: a side, or the whole of it. */
interface Held {
  side: Side | undefined;
  of: Placed[];
  along: { of: Placed; side: Side }[];
}

interface Box {
  left: number;
  top: number;
  right: number;
  bottom: number;
}

export function MapBoard({ view }: { view: InstrumentView }) {
  const { low, keys, focus, pass, chosen: cells, choose: chooseCell } = useView();
  const { strand: wanted, chosen, choose, withNeighbours } = useMap();
  const heldKeys = useSound((sound) => sound.held);
  const sounding = useSound((sound) => sound.meter.sounding);
  const onWheel = useLook();
  const all = useMemo(() => placedRegions(view), [view]);
  const strand = heldStrand(view, wanted, pass);
  const own = useMemo(() => all.filter(({ region }) => region.key.strand === strand), [all, strand]);
  const picked = useMemo(() => new Set(chosenRegions(own, chosen, cells, focus)), [own, chosen, cells, focus]);
  const heard = useMemo(() => new Set(sounding.map((n) => all[n])), [sounding, all]);
  const [live, setLive] = useState<ReadonlyMap<Placed, Extent>>(new Map());
  const [cursor, setCursor] = useState("default");
  const extentOf = useCallback((of: Placed) => live.get(of) ?? of.extent, [live]);
  const boxOf = useCallback(
    ({ lowKey, highKey, lowStrike, highStrike }: Extent, width: number, height: number): Box => {
      const inner = width - STRETCH;
      const x = (strike: number) => ((strike - 1) / 127) * inner;
      return {
        left: x(lowStrike),
        right: x(highStrike + 1),
        top: laneTop(highKey, low, keys, height),
        bottom: laneTop(lowKey, low, keys, height) + (height - HEADER) / keys,
      };
    },
    [low, keys],
  );

  const draw = useCallback(
    (surface: Surface) => {
      const { ctx, width, height, colours } = surface;
      ctx.fillStyle = colours.sheet;
      ctx.fillRect(0, 0, width, height);
      ctx.save();
      ctx.beginPath();
      ctx.rect(0, HEADER, width, height - HEADER);
      ctx.clip();
      const layersOf = (of: Placed) => view.plan.passes.find((pass) => pass.id === of.take?.cell.pass)?.layers.length ?? 1;
      const paint = (of: Placed, faint: boolean) => {
        const { region, take } = of;
        const box = boxOf(extentOf(of), width, height);
        if (box.bottom <= HEADER || box.top >= height) return;
        const colour = layerColour(colours, take ? layerPlace(view.plan, take.cell) : 0, layersOf(of));
        const isChosen = picked.has(of);
        const plays = heard.has(of);
        const [left, top, wide, tall] = [box.left + 1.5, box.top + 1, box.right - box.left - 3, box.bottom - box.top - 2];
        ctx.beginPath();
        ctx.roundRect(left, top, wide, tall, 4);
        ctx.globalAlpha = faint ? 0.1 : 0.45;
        ctx.fillStyle = isChosen ? colours.chosen : fill(ctx, of, colour, box);
        if (isChosen) ctx.globalAlpha = 1;
        ctx.fill();
        ctx.globalAlpha = faint ? 0.3 : 1;
        ctx.strokeStyle = isChosen ? colours.chosenLine : plays ? colours.ink : colour;
        ctx.lineWidth = plays ? 3 : isChosen ? 2 : 1;
        // What was set by hand is drawn with a broken line.
        ctx.setLineDash(of.byHand.length > 0 ? [5, 3] : []);
        ctx.stroke();
        ctx.setLineDash([]);
        ctx.globalAlpha = 1;
        if (faint) return;
        const root = laneTop(region.root_key, low, keys, height) + (height - HEADER) / keys / 2;
        if (root > box.top && root < box.bottom) {
          ctx.beginPath();
          ctx.arc(left + wide / 2, root, Math.max(2, Math.min(4, (height - HEADER) / keys / 2)), 0, 7);
          ctx.fillStyle = colour;
          ctx.fill();
        }
        // Sounds of a kit are told by their names.
        if (view.plan.kind === "drum" && tall > 9 && wide > 40) {
          ctx.fillStyle = colours.ink;
          ctx.font = tall > 14 ? SANS : SANS.replace(/[\d.]+px/, "9.5px");
          ctx.textBaseline = "middle";
          ctx.fillText(inWords(view.program.samples[region.sample]?.name ?? ""), left + 6, top + tall / 2, wide / 2 - 10);
        }
        const turns = turnsOf(of);
        if (turns > 1 && wide > 30 && tall > 11) {
          ctx.fillStyle = colours.ink;
          ctx.font = MONO;
          ctx.textBaseline = "top";
          ctx.fillText(`×${turns}`, left + wide - 22, top + 2);
        }
      };
      for (const of of all) if (of.region.key.strand !== strand) paint(of, true);
      for (const of of own) paint(of, false);
      const limits = view.program.strands.find(({ id }) => id === strand)?.when;
      if (limits) {
        // What lies outside of the strand's limits is not heard.
        ctx.globalAlpha = 0.72;
        ctx.fillStyle = colours.sheet;
        const inside = boxOf(
          { lowKey: limits.keys.low, highKey: limits.keys.high, lowStrike: limits.strikes.low, highStrike: limits.strikes.high },
          width,
          height,
        );
        ctx.fillRect(0, HEADER, width - STRETCH, inside.top - HEADER);
        ctx.fillRect(0, inside.bottom, width - STRETCH, height - inside.bottom);
        ctx.fillRect(0, inside.top, inside.left, inside.bottom - inside.top);
        ctx.fillRect(inside.right, inside.top, width - STRETCH - inside.right, inside.bottom - inside.top);
        ctx.globalAlpha = 1;
      }
      for (const found of view.coverage)
        if (found.strand === strand)
          hatch(surface, boxOf(extentIn(found), width, height), found.what === "gap" ? colours.mark : colours.chosenLine);
      drawStretch(surface, own, extentOf, view.stretch_keys, low, keys);
      for (const key of heldKeys) {
        ctx.fillStyle = colours.chosenLine;
        ctx.fillRect(0, laneTop(key, low, keys, height), 3, (height - HEADER) / keys);
      }
      ctx.restore();
      drawHeader(surface);
    },
    [view.plan, view.program, view.coverage, view.stretch_keys, all, own, strand, low, keys, picked, heldKeys, heard, extentOf, boxOf],
  );

  const hit = (at: Place): { of: Placed; side: Side | undefined } | undefined => {
    for (const of of [...own].reverse()) {
      const box = boxOf(of.extent, at.width, at.height);
      if (at.x < box.left - 1 || at.x > box.right + 1 || at.y < box.top - 1 || at.y > box.bottom + 1) continue;
      const grip = (size: number) => Math.min(GRIP, size / 4);
      const [g, h] = [grip(box.right - box.left), grip(box.bottom - box.top)];
      const sides: [Side, number, number][] = [
        ["lowStrike", at.x - box.left, g],
        ["highStrike", box.right - at.x, g],
        ["highKey", at.y - box.top, h],
        ["lowKey", box.bottom - at.y, h],
      ];
      const near = sides.filter(([, far, reach]) => far <= reach).sort((a, b) => a[1] - b[1])[0];
      return { of, side: near?.[0] };
    }
    return undefined;
  };
  const show = ({ side, of, along }: Held, by: By, at: Place) => {
    const byKeys = -by.y / ((at.height - HEADER) / keys);
    const byStrikes = by.x / ((at.width - STRETCH) / 127);
    const next = new Map<Placed, Extent>();
    if (!side) for (const one of of) next.set(one, moved(one.extent, byKeys, byStrikes));
    else {
      const others = own.filter((one) => !of.includes(one) && !along.some((a) => a.of === one));
      for (const one of of) {
        const to = one.extent[side] + (side.endsWith("Key") ? byKeys : byStrikes);
        next.set(one, withSide(one.extent, side, side.endsWith("Key") ? to : snapped(others, side, Math.round(to), SNAP)));
      }
      const step = side.startsWith("low") ? -1 : 1;
      for (const { of: neighbour, side: theirs } of along) {
        const lead = [...next].find(([one]) => one.extent[side] + step === neighbour.extent[theirs]);
        if (lead) next.set(neighbour, withSide(neighbour.extent, theirs, lead[1][side] + step));
      }
    }
    setLive(next);
    return next;
  };
  const pick = (of: Placed, adds: boolean) => {
    const ids = inTurnWith(own, of).map((one) => one.id);
    const before = [...picked].map((one) => one.id);
    const next = !adds ? ids : before.includes(of.id) ? before.filter((id) => !ids.includes(id)) : [...ids, ...before];
    if (of.take) chooseCell(cellId(of.take.cell), new Set([cellId(of.take.cell)]));
    choose(next);
  };
  const { handlers: drag } = useDrag<Held>({
    take: (at) => {
      const found = hit(at);
      if (!found) return undefined;
      const of = picked.has(found.of) ? own.filter((one) => picked.has(one)) : inTurnWith(own, found.of);
      return { side: found.side, of, along: found.side && withNeighbours ? neighbours(own, of, found.side) : [] };
    },
    move: show,
    drop: (held, by, at) => {
      const placed = [...show(held, by, at)].map(([of, to]) => ({ of, to }));
      void keepExtents(view.id, placed).finally(() => setLive(new Map()));
    },
    cancel: () => setLive(new Map()),
    click: (_, at, event) => {
      const found = hit(at);
      if (found) pick(found.of, event.shiftKey || event.ctrlKey || event.metaKey);
    },
  });
  return (
    <div className="absolute inset-0">
      <Canvas
        draw={draw}
        data-part="map"
        role="img"
        aria-label={`${own.length} regions: key extent upward, velocity extent rightward`}
        style={{ cursor }}
        onWheel={onWheel}
        {...drag}
        onPointerMove={(event) => {
          drag.onPointerMove(event);
          const box = event.currentTarget.getBoundingClientRect();
          const found = hit({ x: event.clientX - box.left, y: event.clientY - box.top, width: box.width, height: box.height });
          setCursor(!found ? "default" : !found.side ? "grab" : found.side.endsWith("Key") ? "ns-resize" : "ew-resize");
        }}
      />
      <Split view={view} strand={strand} />
      <div role="listbox" aria-multiselectable aria-label="Regions" className="sr-only">
        {own.map((of) => (
          <button
            key={of.id}
            role="option"
            aria-selected={picked.has(of)}
            data-region={of.id}
            tabIndex={of.id === (chosen[0] ?? own[0]?.id) ? 0 : -1}
            onClick={(event) => pick(of, event.shiftKey || event.ctrlKey || event.metaKey)}
            onKeyDown={(event) => {
              const to =
                event.key === "ArrowDown" || event.key === "ArrowRight" ? 1 : event.key === "ArrowUp" || event.key === "ArrowLeft" ? -1 : 0;
              const next = own[own.indexOf(of) + to];
              if (to === 0 || !next) return;
              event.preventDefault();
              event.stopPropagation();
              pick(next, event.shiftKey);
              event.currentTarget.parentElement?.querySelector<HTMLElement>(`[data-region="${next.id}"]`)?.focus();
            }}
          >
            {wordsOf(of, view)}
          </button>
        ))}
      </div>
    </div>
  );
}

/** A region in words. */
export function wordsOf({ region, extent, byHand }: Placed, view: InstrumentView): string {
  const { lowKey, highKey, lowStrike, highStrike } = extent;
  const name = inWords(view.program.samples[region.sample]?.name ?? "");
  const hand = byHand.length > 0 ? ", set by hand" : "";
  return `${name}: keys ${keyName(lowKey)} to ${keyName(highKey)}, strikes ${lowStrike} to ${highStrike}${hand}`;
}

/** Lines from corner to corner over what is not covered once. */
function hatch({ ctx }: Surface, { left, top, right, bottom }: Box, colour: string): void {
  ctx.save();
  ctx.beginPath();
  ctx.rect(left + 1, top + 1, right - left - 2, bottom - top - 2);
  ctx.clip();
  ctx.strokeStyle = colour;
  ctx.lineWidth = 1;
  ctx.beginPath();
  for (let x = left - (bottom - top); x < right; x += 7) {
    ctx.moveTo(x, bottom);
    ctx.lineTo(x + (bottom - top), top);
  }
  ctx.stroke();
  ctx.strokeRect(left + 1, top + 1, right - left - 2, bottom - top - 2);
  ctx.restore();
}

/** The colour of a region, paler where it fades. */
function fill(ctx: CanvasRenderingContext2D, { region }: Placed, colour: string, box: Box): string | CanvasGradient {
  const { low, high, fade_in, fade_out } = region.when.strikes;
  if (!fade_in && !fade_out) return colour;
  const clear = `rgb(from ${colour} r g b / 0)`;
  const gradient = ctx.createLinearGradient(box.left, 0, box.right, 0);
  const at = (strike: number) => Math.min(1, Math.max(0, (strike - low) / Math.max(1, high + 1 - low)));
  gradient.addColorStop(0, fade_in ? clear : colour);
  if (fade_in) gradient.addColorStop(at(fade_in.to), colour);
  if (fade_out) gradient.addColorStop(at(fade_out.from), colour);
  gradient.addColorStop(1, fade_out ? clear : colour);
  return gradient;
}

/** How far each key is from the root it is played from: to the left is stretched down, to the right up. */
function drawStretch(
  { ctx, width, height, colours }: Surface,
  own: Placed[],
  extentOf: (of: Placed) => Extent,
  [heard, plainly]: number[],
  low: number,
  keys: number,
): void {
  const inner = width - STRETCH;
  const lane = (height - HEADER) / keys;
  ctx.fillStyle = colours.line;
  ctx.fillRect(inner, 0, 1, height);
  const zero = inner + STRETCH * 0.62;
  ctx.fillRect(zero, HEADER, 1, height);
  for (let key = low; key < low + keys; key++) {
    const of = own.find((one) => extentOf(one).lowKey <= key && key <= extentOf(one).highKey);
    if (!of) continue;
    const stretch = key - of.region.root_key;
    ctx.fillStyle = Math.abs(stretch) > plainly! ? colours.mark : Math.abs(stretch) > heard! ? colours.chosenLine : colours.act;
    ctx.globalAlpha = 0.8;
    const reach = (Math.max(-12, Math.min(7, stretch)) / 12) * STRETCH * 0.6;
    ctx.fillRect(Math.min(zero, zero + reach), laneTop(key, low, keys, height) + lane * 0.2, Math.max(1, Math.abs(reach)), lane * 0.6);
    ctx.globalAlpha = 1;
  }
}

function drawHeader({ ctx, width, colours }: Surface): void {
  const inner = width - STRETCH;
  ctx.fillStyle = colours.sheet;
  ctx.fillRect(0, 0, width, HEADER - 1);
  ctx.fillStyle = colours.line;
  ctx.fillRect(0, HEADER - 1, width, 1);
  ctx.fillRect(inner, 0, 1, HEADER);
  ctx.textBaseline = "middle";
  ctx.fillStyle = colours.ink3;
  ctx.font = MONO;
  ctx.fillText("soft 1", 8, HEADER / 2);
  ctx.fillText("127 loud", inner - 66, HEADER / 2);
  ctx.font = SANS;
  ctx.fillText("velocity", inner / 2 - 20, HEADER / 2);
  ctx.fillText("stretch", inner + 10, HEADER / 2);
}
