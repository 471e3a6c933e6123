// An instrument on the shelf, and what is done with it as a whole.
import { useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useCallback, useState } from "react";
import { answer, api, type Card, type Schemas } from "../api/client";
import { change } from "../state/edits";
import { megabytes } from "../model/units";
import { AskName, AskSurely } from "../parts/Ask";
import { Canvas, layerColour, type Surface } from "../parts/canvas";
import { sayError, useView } from "../state/view";
import { Menu } from "../parts/Menu";

type Asked = "name" | Schemas["FreesView"] | undefined;

export function ShelfCard({ card }: { card: Card }) {
  const [asked, setAsked] = useState<Asked>();
  const shelf = useQueryClient();
  const { say } = useView();
  const act = (work: () => Promise<string | undefined>) =>
    void work()
      .then((told) => (told ? say(told) : undefined))
      .then(() => shelf.invalidateQueries({ queryKey: ["shelf"] }))
      .catch(sayError);
  const rename = (name: string) =>
    act(async () => {
      await change(card.id, "rename the instrument", [{ fact: "name", value: name }]);
      return undefined;
    });
  const duplicate = () =>
    act(async () => {
      const name = `${card.name.slice(0, 110)} again`;
      answer(await api.POST("/api/instruments/{id}/copy", { params: { path: { id: card.id } }, body: { name } }));
      return `«${name}» has the same takes and all that was said of them; recordings are shared.`;
    });
  const setAside = (aside: boolean) =>
    act(async () => {
      await change(card.id, aside ? "set the instrument aside" : "put the instrument back", [
        { fact: "set_aside", value: aside ? true : undefined },
      ]);
      return aside ? `«${card.name}» is set aside, with everything in it.` : `«${card.name}» is back on the shelf.`;
    });
  const askSurely = () =>
    void api
      .GET("/api/instruments/{id}/frees", { params: { path: { id: card.id } } })
      .then((frees) => setAsked(answer(frees)))
      .catch(sayError);
  const remove = () =>
    act(async () => {
      answer(await api.DELETE("/api/instruments/{id}", { params: { path: { id: card.id } } }));
      return `«${card.name}» is removed for good.`;
    });
  const acts: [string, () => void][] = card.set_aside
    ? [
        ["Put back", () => setAside(false)],
        ["Remove for good…", askSurely],
      ]
    : [
        ["Rename…", () => setAsked("name")],
        ["Duplicate", duplicate],
        ["Set aside", () => setAside(true)],
      ];
  return (
    <li className="relative">
      <Link
        to="/instruments/$id/$step"
        params={{ id: String(card.id), step: card.taken < card.cells ? "record" : "map" }}
        className="card block h-full overflow-hidden hover:border-act"
      >
        <div className="relative h-[190px] border-b border-line2 bg-sheet">
          <SmallLadder card={card} />
        </div>
        <div className="p-3 pr-11">
          <p className="text-[15px] font-semibold">{card.name}</p>
          {card.tags.length > 0 && <p className="truncate text-[12px] text-ink3">{card.tags.join(" · ")}</p>}
          <p className="text-ink3">{stateOf(card)}</p>
          {card.looked && <p className={card.looked.wrong > 0 ? "text-mark" : "text-ink3"}>{lookedAt(card.looked)}</p>}
        </div>
      </Link>
      <Menu
        button="⋯"
        className="button absolute right-2 bottom-3 !px-2 !py-0.5"
        label={`What to do with ${card.name}`}
        align="end"
        acts={acts.map(([name, begin]) => ({ name, begin }))}
      />
      <AskName title="Rename" open={asked === "name"} value={card.name} onClose={() => setAsked(undefined)} onKeep={rename} />
      {asked !== undefined && asked !== "name" && (
        <AskSurely title={`Remove «${card.name}» for good?`} act="Remove for good" onClose={() => setAsked(undefined)} onSure={remove}>
          {whatGoes(asked)} This cannot be undone.
        </AskSurely>
      )}
    </li>
  );
}

function stateOf(card: Card): string {
  if (card.taken < card.cells) return `${card.taken} of ${card.cells} cells recorded`;
  if (card.measured < card.cells) return `${card.measured} of ${card.cells} takes measured`;
  const counted = (count: number, one: string) => `${count} ${one}${count === 1 ? "" : "s"}`;
  return `${counted(card.cells, "take")} · ${counted(card.layers, "layer")} · ready to play`;
}

/** What Check had found when it was looked at last. */
function lookedAt({ wrong, look }: Schemas["Looked"]): string {
  if (wrong + look === 0) return "nothing left to look at";
  return wrong === 0 ? `${look} to look at` : `${wrong} wrong, ${look} to look at`;
}

function whatGoes({ takes, recordings, bytes }: Schemas["FreesView"]): string {
  const goes = `Its ${takes} ${takes === 1 ? "take goes" : "takes go"}, with all that was said of them.`;
  return recordings === 0
    ? `${goes} Its recordings stay: other instruments use them too.`
    : `${goes} ${recordings} ${recordings === 1 ? "recording" : "recordings"} that no other instrument uses are removed within a day: ${megabytes(bytes)}.`;
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
        ctx.fillStyle = layerColour(colours, Math.min(64, Math.max(0, (region.low_velocity + region.high_velocity) / 2 - 32)), 65);
        const [low, high] = [Math.max(from, region.low_key), Math.min(to, region.high_key)];
        ctx.fillRect(x, y(high), wide - 2, (high - low + 1) * lane - 1.5);
      }
      ctx.fillStyle = colours.line;
      ctx.fillRect(16, 8, 1.5, height - 16);
      ctx.fillRect(width - 17, 8, 1.5, height - 16);
    },
    [card.regions],
  );
  return <Canvas draw={draw} role="img" aria-label={`${card.regions.length} regions`} />;
}
