// All instruments.
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useCallback } from "react";
import type { Card } from "../api/client";
import { Canvas, type Surface } from "../parts/canvas";
import { layerColour } from "../model/cells";
import { Brand } from "../parts/Brand";
import { shelfQuery } from "../state/queries";

export function Shelf() {
  const shelf = useQuery(shelfQuery);
  return (
    <div className="flex h-full flex-col">
      <header className="flex h-[52px] items-center justify-between border-b border-line bg-sheet px-4">
        <Brand />
        <Link to="/new" className="button act">New instrument</Link>
      </header>
      <main className="min-h-0 flex-1 overflow-y-auto p-6">
        <h1 className="mb-4 text-[17px] font-semibold">Shelf</h1>
        {shelf.isError && <p className="text-mark">{shelf.error.message}</p>}
        {shelf.data?.length === 0 && (
          <div className="card max-w-lg p-6">
            <p className="mb-3">This is where your instruments will stand. Each begins with a plan: which notes are recorded, how strongly and how often.</p>
            <Link to="/new" className="button act">New instrument</Link>
          </div>
        )}
        <ul className="grid grid-cols-[repeat(auto-fill,minmax(270px,1fr))] gap-4">
          {shelf.data?.map((card) => (
            <li key={card.id}>
              <Link to="/instruments/$id/$step" params={{ id: String(card.id), step: card.taken < card.cells ? "record" : "map" }} className="card block overflow-hidden hover:border-act">
                <div className="relative h-[190px] border-b border-line2 bg-sheet"><SmallLadder card={card} /></div>
                <div className="p-3">
                  <p className="text-[15px] font-semibold">{card.name}</p>
                  <p className="text-ink3">
                    {card.taken < card.cells ? `${card.taken} of ${card.cells} cells recorded` : card.measured < card.cells ? `${card.measured} of ${card.cells} takes measured` : `${card.cells} takes · ${card.layers} ${card.layers === 1 ? "layer" : "layers"} · ready to play`}
                  </p>
                </div>
              </Link>
            </li>
          ))}
        </ul>
      </main>
    </div>
  );
}

/** The instrument's real regions, low keys at the bottom, soft to loud rightward. */
function SmallLadder({ card }: { card: Card }) {
  const draw = useCallback(
    ({ ctx, width, height, colours }: Surface) => {
      ctx.fillStyle = colours.sheet;
      ctx.fillRect(0, 0, width, height);
      const [from, to] = [21, 108];
      const lane = (height - 16) / (to - from + 1);
      const y = (key: number) => height - 8 - (key - from + 1) * lane;
      for (const region of card.regions) {
        const x = 24 + ((region.low_velocity - 1) / 127) * (width - 48);
        const wide = ((region.high_velocity - region.low_velocity + 1) / 127) * (width - 48);
        ctx.fillStyle = layerColour(Math.min(64, Math.max(0, (region.low_velocity + region.high_velocity) / 2 - 32)), 65);
        ctx.fillRect(x, y(region.high_key), wide - 2, (region.high_key - region.low_key + 1) * lane - 1.5);
      }
      ctx.fillStyle = colours.line;
      ctx.fillRect(16, 8, 1.5, height - 16);
      ctx.fillRect(width - 17, 8, 1.5, height - 16);
    },
    [card.regions],
  );
  return <Canvas draw={draw} role="img" aria-label={`${card.regions.length} regions`} />;
}
