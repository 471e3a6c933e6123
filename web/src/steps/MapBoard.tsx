// What sounds where: the regions of one strand on keys and strikes, taken hold of at their sides.
import { useCallback, useMemo, useState } from "react";
import type { InstrumentView } from "../api/client";
import { cellId } from "../model/cells";
import {
  borders,
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
  withSide,
} from "../model/regions";
import { heldStrand } from "../model/strands";
import { Canvas, type Surface } from "../parts/canvas";
import { type By, type Place, useDrag } from "../parts/drag";
import { filesDropped } from "../parts/filesDropped";
import { HEADER, keyAt, laneTop, underHead, useLook } from "../parts/Ladder";
import { player, useSound } from "../sound/player";
import type { Moved } from "../sound/worklet";
import { useMap } from "../state/map";
import { sayError, useView } from "../state/view";
import { inPlaceOf, onKeys } from "./dropped";
import { boxOf, drawHeader, drawLimits, drawStretch, hatch, painter, STRETCH, stretches } from "./mapDrawing";
import { keepExtents } from "./mapFacts";
import { RegionList } from "./RegionList";
import { Split } from "./Split";

/** A side is taken hold of from so many pixels. */
const GRIP = 6;
/** A border snaps to others from so many steps of strike. */
const SNAP = 3;

/** What of a region is held: a side, or the whole of it. */
interface Held {
  side: Side | undefined;
  of: Placed[];
  along: { of: Placed; side: Side }[];
  /** Borders of the others, to which it snaps. */
  borders: number[];
  /** All that moves. */
  all: ReadonlySet<Placed>;
}

const NONE: ReadonlySet<Placed> = new Set();

export function MapBoard({ view }: { view: InstrumentView }) {
  const { low, keys, focus, pass, chosen: cells, choose: chooseCell } = useView();
  const { strand: wanted, chosen, choose, withNeighbours } = useMap();
  const onWheel = useLook();
  const look = useMemo(() => ({ low, keys }), [low, keys]);
  const all = useMemo(() => placedRegions(view), [view]);
  const strand = heldStrand(view, wanted, pass);
  const own = useMemo(() => all.filter(({ region }) => region.key.strand === strand), [all, strand]);
  const picked = useMemo(() => new Set(chosenRegions(own, chosen, cells, focus)), [own, chosen, cells, focus]);
  // What is dragged is drawn over the rest, so that a move draws that alone.
  const [lifted, setLifted] = useState(NONE);
  const [live, setLive] = useState<ReadonlyMap<Placed, Extent>>(new Map());
  const [cursor, setCursor] = useState("default");
  /** Where files that are dragged over the board would go. */
  const [over, setOver] = useState<Extent | undefined>();

  const drawAll = useCallback(
    (surface: Surface) => {
      const { width, height, colours } = surface;
      underHead(surface, () => {
        const paint = painter(surface, view, look);
        for (const of of all)
          if (of.region.key.strand !== strand) paint(of, of.extent, { chosen: picked.has(of), plays: false, faint: true });
        for (const of of own) if (!lifted.has(of)) paint(of, of.extent, { chosen: picked.has(of), plays: false, faint: false });
        const limits = view.program.strands.find(({ id }) => id === strand)?.when;
        if (limits) {
          const { keys, strikes } = limits;
          const extent = { lowKey: keys.low, highKey: keys.high, lowStrike: strikes.low, highStrike: strikes.high };
          drawLimits(surface, boxOf(extent, look, width, height));
        }
        for (const found of view.coverage)
          if (found.strand === strand)
            hatch(surface, boxOf(extentIn(found), look, width, height), found.what === "gap" ? colours.mark : colours.chosenLine);
      });
      drawHeader(surface);
    },
    [view, all, own, strand, look, picked, lifted],
  );

  // Of those with a name of its own, the one on top.
  const hit = (at: Place): { of: Placed; side: Side | undefined } | undefined => {
    for (let n = own.length - 1; n >= 0; n--) {
      const of = own[n]!;
      const box = boxOf(of.extent, look, at.width, at.height);
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
  const show = ({ side, of, along, borders: others, all: moving }: Held, by: By, at: Place) => {
    const byKeys = -by.y / ((at.height - HEADER) / keys);
    const byStrikes = by.x / ((at.width - STRETCH) / 127);
    const next = new Map<Placed, Extent>();
    if (!side) for (const one of of) next.set(one, moved(one.extent, byKeys, byStrikes));
    else {
      const step = side.startsWith("low") ? -1 : 1;
      // Where each border went, for the neighbours that go along.
      const went = new Map<number, number>();
      for (const one of of) {
        const to = one.extent[side] + (side.endsWith("Key") ? byKeys : byStrikes);
        const extent = withSide(one.extent, side, side.endsWith("Key") ? to : snapped(others, Math.round(to), SNAP));
        next.set(one, extent);
        if (!went.has(one.extent[side] + step)) went.set(one.extent[side] + step, extent[side] + step);
      }
      for (const { of: neighbour, side: theirs } of along) {
        const to = went.get(neighbour.extent[theirs]);
        if (to !== undefined) next.set(neighbour, withSide(neighbour.extent, theirs, to));
      }
    }
    setLifted(moving);
    setLive(next);
    player.place([...next].filter(([of, extent]) => !isSame(extent, live.get(of) ?? of.extent)).map(([of, extent]) => placed(of, extent)));
    return next;
  };
  const letGo = () => {
    setLifted(NONE);
    setLive(new Map());
  };
  const takeBack = () => {
    player.place([...live.keys()].map((of) => placed(of, of.extent)));
    letGo();
  };
  const pick = useCallback(
    (of: Placed, adds: boolean) => {
      const ids = inTurnWith(own, of).map((one) => one.id);
      const before = [...picked].map((one) => one.id);
      const next = !adds ? ids : before.includes(of.id) ? before.filter((id) => !ids.includes(id)) : [...ids, ...before];
      if (of.take) chooseCell(cellId(of.take.cell), new Set([cellId(of.take.cell)]));
      choose(next);
    },
    [own, picked, choose, chooseCell],
  );
  const { handlers: drag } = useDrag<Held>({
    take: (at) => {
      const found = hit(at);
      if (!found) return undefined;
      const of = picked.has(found.of) ? own.filter((one) => picked.has(one)) : inTurnWith(own, found.of);
      const along = found.side && withNeighbours ? neighbours(own, of, found.side) : [];
      const moving = new Set([...of, ...along.map((one) => one.of)]);
      const others = found.side
        ? borders(
            own.filter((one) => !moving.has(one)),
            found.side,
          )
        : [];
      return { side: found.side, of, along, borders: others, all: moving };
    },
    move: show,
    drop: (held, by, at) => {
      const kept = [...show(held, by, at)].map(([of, to]) => ({ of, to }));
      void keepExtents(view.id, kept).then((isKept) => {
        if (!isKept) player.place(kept.map(({ of }) => placed(of, of.extent)));
        letGo();
      });
    },
    cancel: takeBack,
    click: (_, at, event) => {
      const found = hit(at);
      if (found) pick(found.of, event.shiftKey || event.ctrlKey || event.metaKey);
    },
  });
  const files = filesDropped(
    (at) => {
      const of = at && hit(at)?.of;
      const key = at && keyAt(at.y, low, keys, at.height);
      setOver(of?.extent ?? (key === undefined ? undefined : { lowKey: key, highKey: key, lowStrike: 1, highStrike: 127 }));
      return key !== undefined && key >= 0 && key < 128;
    },
    (at, dropped) => {
      const take = hit(at)?.of.take;
      const done = take ? inPlaceOf(view, take, dropped) : onKeys(view, keyAt(at.y, low, keys, at.height), dropped);
      void done.catch(sayError);
    },
  );
  return (
    <div className="absolute inset-0">
      <Canvas
        draw={drawAll}
        data-part="map"
        role="img"
        aria-label={`${own.length} regions: key extent upward, velocity extent rightward`}
        style={{ cursor }}
        onWheel={onWheel}
        {...files}
        {...drag}
        onPointerMove={(event) => {
          drag.onPointerMove(event);
          const box = event.currentTarget.getBoundingClientRect();
          const found = hit({ x: event.clientX - box.left, y: event.clientY - box.top, width: box.width, height: box.height });
          setCursor(!found ? "default" : !found.side ? "grab" : found.side.endsWith("Key") ? "ns-resize" : "ew-resize");
        }}
      />
      <Moving view={view} all={all} own={own} picked={picked} look={look} live={live} over={over} />
      <Split view={view} strand={strand} />
      <RegionList view={view} own={own} picked={picked} first={chosen[0]} pick={pick} />
    </div>
  );
}

const isSame = (a: Extent, b: Extent) =>
  a.lowKey === b.lowKey && a.highKey === b.highKey && a.lowStrike === b.lowStrike && a.highStrike === b.highStrike;

const placed = ({ name }: Placed, { lowKey, highKey, lowStrike, highStrike }: Extent): Moved => [
  ...name,
  lowKey,
  highKey,
  lowStrike,
  highStrike,
];

interface MovingProps {
  view: InstrumentView;
  all: Placed[];
  own: Placed[];
  picked: ReadonlySet<Placed>;
  look: { low: number; keys: number };
  live: ReadonlyMap<Placed, Extent>;
  over: Extent | undefined;
}

/** What changes from moment to moment, over all else: what is dragged, keys that are held, and what sounds. */
function Moving({ view, all, own, picked, look, live, over }: MovingProps) {
  const held = useSound((sound) => sound.held);
  const sounding = useSound((sound) => sound.meter.sounding);
  const stretch = useMemo(() => stretches(own, (of) => live.get(of) ?? of.extent), [own, live]);
  const draw = useCallback(
    (surface: Surface) => {
      const { ctx, width, height, colours } = surface;
      ctx.save();
      ctx.beginPath();
      ctx.rect(0, HEADER, width, height - HEADER);
      ctx.clip();
      drawStretch(surface, stretch, view.stretch_keys, look);
      const paint = painter(surface, view, look);
      for (const [of, extent] of live) paint(of, extent, { chosen: picked.has(of), plays: false, faint: false });
      const strand = own[0]?.region.key.strand;
      for (const n of sounding) {
        const of = all[n];
        if (of && of.region.key.strand === strand)
          paint(of, live.get(of) ?? of.extent, { chosen: picked.has(of), plays: true, faint: false });
      }
      ctx.fillStyle = colours.chosenLine;
      for (const key of held) ctx.fillRect(0, laneTop(key, look.low, look.keys, height), 3, (height - HEADER) / look.keys);
      if (over) {
        const { left, top, right, bottom } = boxOf(over, look, width, height);
        ctx.strokeStyle = colours.act;
        ctx.lineWidth = 3;
        ctx.strokeRect(left + 1.5, top + 1.5, right - left - 3, bottom - top - 3);
      }
      ctx.restore();
    },
    [view, all, own, picked, look, live, over, held, sounding, stretch],
  );
  return <Canvas draw={draw} className="pointer-events-none" aria-hidden />;
}
