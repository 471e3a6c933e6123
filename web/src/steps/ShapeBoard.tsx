// How loud every key sounds from the softest strike to the hardest: gaps, steps and crossfades are seen.
import { useQuery } from "@tanstack/react-query";
import { useCallback, useMemo } from "react";
import type { InstrumentView, Schemas } from "../api/client";
import { chosenRegions, contains, type Placed, placedRegions } from "../model/regions";
import { heldStrand } from "../model/strands";
import { Canvas, layerColour, MONO, SANS, type Surface } from "../parts/canvas";
import { HEADER, keyAt, laneTop, underHead, useLook } from "../parts/Ladder";
import { keyName } from "../model/keys";
import { levelsQuery } from "../state/queries";
import { useMap } from "../state/map";
import { useView } from "../state/view";

type KeyLevels = Schemas["KeyLevels"];

/** Beside the board, the softest and the hardest strike. */
const PLOT = 140;
/** From the loudest to the softest at least so much is told apart. */
const LEAST_RANGE_DB = 24;

export function ShapeBoard({ view }: { view: InstrumentView }) {
  const { low, keys, pass, chosen: cells, focus } = useView();
  const { strand: wanted, chosen: ids, shaping, choose } = useMap();
  const strand = heldStrand(view, wanted, pass);
  const regions = useMemo(() => placedRegions(view).filter(({ region }) => region.key.strand === strand), [view, strand]);
  const chosen = useMemo(() => chosenRegions(regions, ids, cells, focus), [regions, ids, cells, focus]);
  const onWheel = useLook();
  const levels = useQuery(levelsQuery(view.id, strand, view.kept_at)).data;
  const [softest, loudest] = useMemo(() => {
    const known = (levels ?? []).flatMap((of) => of.lufs.filter((at) => at != null));
    const high = known.reduce((most, at) => Math.max(most, at), -100);
    return [known.reduce((least, at) => Math.min(least, at), high - LEAST_RANGE_DB), high];
  }, [levels]);
  const draw = useCallback(
    (surface: Surface) => {
      const { ctx, width, height, colours } = surface;
      const inner = width - PLOT;
      underHead(surface, () => {
        const lane = (height - HEADER) / keys;
        const shareOf = (db: number) => Math.min(1, Math.max(0, (db - softest) / (loudest - softest)));
        for (const of of levels ?? []) {
          const top = laneTop(of.key, low, keys, height);
          if (top + lane < HEADER || top > height) continue;
          const one = (inner - 8) / of.lufs.length;
          of.lufs.forEach((db, n) => {
            if (db == null) return;
            ctx.fillStyle = layerColour(colours, Math.round(shareOf(db) * 100), 101);
            ctx.fillRect(6 + n * one, top + 0.5, one + 0.5, Math.max(1, lane - 1));
          });
          drawDots(surface, of, inner, top + lane / 2, shareOf);
        }
        const box = ({ extent }: Placed) => {
          const x = (strike: number) => 6 + ((strike - 1) / 127) * (inner - 8);
          const [left, right] = [x(extent.lowStrike), x(extent.highStrike + 1)];
          const [top, bottom] = [laneTop(extent.highKey, low, keys, height), laneTop(extent.lowKey, low, keys, height) + lane];
          return [left, top, right - left, bottom - top] as const;
        };
        // What plays otherwise than its strand has a bar at its side.
        ctx.fillStyle = colours.mark;
        for (const of of regions) {
          const [left, top, , tall] = box(of);
          if (of.region.shape != null) ctx.fillRect(left, top + 1, 3, tall - 2);
        }
        ctx.lineWidth = 2;
        ctx.strokeStyle = colours.chosenLine;
        if (shaping === "regions") for (const of of chosen) ctx.strokeRect(...box(of));
        ctx.fillStyle = colours.line2;
        for (let key = low; key < low + keys; key++) if (key % 12 === 0) ctx.fillRect(0, laneTop(key - 1, low, keys, height), width, 1);
      });
      drawHeader(surface, inner, [softest, loudest]);
    },
    [levels, low, keys, softest, loudest, regions, chosen, shaping],
  );
  const pick = (event: React.PointerEvent<HTMLCanvasElement>) => {
    const at = event.currentTarget.getBoundingClientRect();
    const key = keyAt(event.clientY - at.top, low, keys, at.height);
    const strike = Math.floor(1 + ((event.clientX - at.left - 6) / (at.width - PLOT - 8)) * 127);
    if (event.clientY - at.top < HEADER || strike < 1 || strike > 127) return;
    const hit = regions
      .filter(({ region }) => contains(region.when.keys, key) && contains(region.when.strikes, strike))
      .map(({ id }) => id);
    const before = event.shiftKey ? chosen.map(({ id }) => id) : [];
    const all = before.length > 0 && hit.every((id) => before.includes(id));
    choose(all ? before.filter((id) => !hit.includes(id)) : [...before, ...hit.filter((id) => !before.includes(id))]);
    useMap.setState({ shaping: "regions" });
  };
  return (
    <div className="absolute inset-0">
      <Canvas
        draw={draw}
        data-part="shape"
        aria-hidden
        title="Click what is to be shaped for itself; with Shift more of it"
        onWheel={onWheel}
        onPointerDown={pick}
      />
      {/* A table alone would take the room of all its rows. */}
      <div className="sr-only">
        <table aria-label="Level of each key, softly and hard">
          <tbody>
            {(levels ?? []).map((of) => (
              <tr key={of.key}>
                <th>{keyName(of.key)}</th>
                <td>{said(of.lufs[0])}</td>
                <td>{said(of.lufs.at(-1))}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </div>
  );
}

const said = (lufs: number | null | undefined) => (lufs == null ? "silent" : `${lufs.toFixed(1).replace("-", "−")} LUFS`);

/** The softest and the hardest strike of a key. */
function drawDots({ ctx, colours }: Surface, of: KeyLevels, inner: number, y: number, shareOf: (db: number) => number): void {
  [of.lufs[0], of.lufs.at(-1)].forEach((db, n) => {
    if (db == null) return;
    ctx.beginPath();
    ctx.arc(inner + 10 + shareOf(db) * (PLOT - 20), y, 2.6, 0, 7);
    ctx.fillStyle = layerColour(colours, n, 2);
    ctx.fill();
  });
}

function drawHeader({ ctx, width, height, colours }: Surface, inner: number, [softest, loudest]: number[]): void {
  ctx.fillStyle = colours.sheet;
  ctx.fillRect(0, 0, width, HEADER);
  ctx.fillStyle = colours.line;
  ctx.fillRect(0, HEADER - 1, width, 1);
  ctx.fillRect(inner, 0, 1, height);
  ctx.textBaseline = "middle";
  ctx.fillStyle = colours.ink3;
  const y = HEADER / 2;
  ctx.font = SANS;
  ctx.textAlign = "center";
  ctx.fillText("level over strike", inner / 2, y);
  ctx.textAlign = "left";
  ctx.fillText("level", inner + 8, y);
  ctx.font = MONO;
  ctx.fillText("soft 1", 8, y);
  ctx.textAlign = "right";
  ctx.fillText("127 loud", inner - 8, y);
  ctx.fillText(`${Math.round(softest!)}…${Math.round(loudest!)}`.replaceAll("-", "−"), width - 8, y);
  ctx.textAlign = "left";
}
