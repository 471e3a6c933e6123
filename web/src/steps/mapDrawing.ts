// How the map is drawn: regions, what is not covered once, and how far each key is from its root.
import type { InstrumentView } from "../api/client";
import { layerPlace } from "../model/cells";
import { inWords } from "../model/keys";
import { type Extent, type Placed, turnsOf } from "../model/regions";
import { layerColour, MONO, SANS, type Surface } from "../parts/canvas";
import { HEADER, laneTop } from "../parts/Ladder";

/** At the right, how far keys are from their roots. */
export const STRETCH = 112;

export interface Box {
  left: number;
  top: number;
  right: number;
  bottom: number;
}

/** What the board shows of the axis of pitch. */
export interface Look {
  low: number;
  keys: number;
}

export function boxOf({ lowKey, highKey, lowStrike, highStrike }: Extent, { low, keys }: Look, width: number, height: number): Box {
  const inner = width - STRETCH;
  const x = (strike: number) => ((strike - 1) / 127) * inner;
  return {
    left: x(lowStrike),
    right: x(highStrike + 1),
    top: laneTop(highKey, low, keys, height),
    bottom: laneTop(lowKey, low, keys, height) + (height - HEADER) / keys,
  };
}

/** How a region looks. */
export interface Mood {
  chosen: boolean;
  /** It sounds. */
  plays: boolean;
  /** It is of another strand. */
  faint: boolean;
}

/** Regions of an instrument, painted one by one. */
export function painter(surface: Surface, view: InstrumentView, look: Look): (of: Placed, extent: Extent, mood: Mood) => void {
  const { ctx, width, height, colours } = surface;
  const layersOf = new Map(view.plan.passes.map((pass) => [pass.id, pass.layers.length]));
  const colourOf = new Map<string, string>();
  const lane = (height - HEADER) / look.keys;
  const roundness = lane > 6 ? 4 : 1;
  return (of, extent, mood) => {
    const { region, take } = of;
    const box = boxOf(extent, look, width, height);
    if (box.bottom <= HEADER || box.top >= height) return;
    const [layer, layers] = take ? [layerPlace(view.plan, take.cell), layersOf.get(take.cell.pass) ?? 1] : [0, 1];
    const name = `${layer}/${layers}`;
    const colour = colourOf.get(name) ?? layerColour(colours, layer, layers);
    colourOf.set(name, colour);
    const [left, top, wide, tall] = [box.left + 1.5, box.top + 1, box.right - box.left - 3, box.bottom - box.top - 2];
    ctx.beginPath();
    ctx.roundRect(left, top, wide, tall, roundness);
    ctx.globalAlpha = mood.faint ? 0.1 : 0.45;
    ctx.fillStyle = mood.chosen ? colours.chosen : fill(ctx, of, colour, box);
    if (mood.chosen) ctx.globalAlpha = 1;
    ctx.fill();
    ctx.globalAlpha = mood.faint ? 0.3 : 1;
    ctx.strokeStyle = mood.chosen ? colours.chosenLine : mood.plays ? colours.ink : colour;
    ctx.lineWidth = mood.plays ? 3 : mood.chosen ? 2 : 1;
    // What was set by hand is drawn with a broken line.
    const broken = of.byHand.length > 0;
    if (broken) ctx.setLineDash([5, 3]);
    ctx.stroke();
    if (broken) ctx.setLineDash([]);
    ctx.globalAlpha = 1;
    if (mood.faint) return;
    const root = laneTop(region.root_key, look.low, look.keys, height) + lane / 2;
    if (root > box.top && root < box.bottom) {
      ctx.beginPath();
      ctx.arc(left + wide / 2, root, Math.max(2, Math.min(4, lane / 2)), 0, 7);
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
}

/** What lies outside of a strand's limits is not heard. */
export function drawLimits({ ctx, width, height, colours }: Surface, inside: Box): void {
  ctx.globalAlpha = 0.72;
  ctx.fillStyle = colours.sheet;
  ctx.fillRect(0, HEADER, width - STRETCH, inside.top - HEADER);
  ctx.fillRect(0, inside.bottom, width - STRETCH, height - inside.bottom);
  ctx.fillRect(0, inside.top, inside.left, inside.bottom - inside.top);
  ctx.fillRect(inside.right, inside.top, width - STRETCH - inside.right, inside.bottom - inside.top);
  ctx.globalAlpha = 1;
}

/** Lines from corner to corner over what is not covered once. */
export function hatch({ ctx }: Surface, { left, top, right, bottom }: Box, colour: string): void {
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

/** Of each key how far it is from the root that it is played from: of the first region that is on it. */
export function stretches(own: Placed[], extentOf: (of: Placed) => Extent): (number | undefined)[] {
  const all: (number | undefined)[] = new Array<number | undefined>(128).fill(undefined);
  for (const of of own) {
    const { lowKey, highKey } = extentOf(of);
    for (let key = lowKey; key <= highKey; key++) all[key] ??= key - of.region.root_key;
  }
  return all;
}

/** To the left is stretched down, to the right up. */
export function drawStretch(
  { ctx, width, height, colours }: Surface,
  stretch: (number | undefined)[],
  [heard, plainly]: number[],
  { low, keys }: Look,
): void {
  const inner = width - STRETCH;
  const lane = (height - HEADER) / keys;
  ctx.fillStyle = colours.line;
  ctx.fillRect(inner, 0, 1, height);
  const zero = inner + STRETCH * 0.62;
  ctx.fillRect(zero, HEADER, 1, height);
  ctx.globalAlpha = 0.8;
  for (let key = low; key < low + keys; key++) {
    const by = stretch[key];
    if (by === undefined) continue;
    ctx.fillStyle = Math.abs(by) > plainly! ? colours.mark : Math.abs(by) > heard! ? colours.chosenLine : colours.act;
    const reach = (Math.max(-12, Math.min(7, by)) / 12) * STRETCH * 0.6;
    ctx.fillRect(Math.min(zero, zero + reach), laneTop(key, low, keys, height) + lane * 0.2, Math.max(1, Math.abs(reach)), lane * 0.6);
  }
  ctx.globalAlpha = 1;
}

export function drawHeader({ ctx, width, colours }: Surface): void {
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
