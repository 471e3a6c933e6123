// A page of the panel: its parts in their places; one under the other where there is no room for that.
import { type ReactNode, useContext, useEffect, useMemo, useRef, useState } from "react";
import type { Schemas } from "../api/client";
import { type Driving, drivingsOf, isShown, LEAST_ROWS, type Page, PAGE_COLUMNS, type Part } from "../model/panel";
import { isOfWord } from "../model/words";
import type { Playable } from "../sound/home";
import { useSound } from "../sound/player";
import { PanelPart } from "./PanelPart";
import { PictureAt } from "./pictures";

/** Narrower than this, parts stand under each other. */
const NARROW_PX = 600;

/** What each control drives, but for what the words of a choice choose. */
export function useDrivings(view: Playable, kinds: Schemas["EffectView"][]): Map<number, Driving[]> {
  return useMemo(
    () =>
      new Map(
        view.panel.parts.map((part) => [
          part.id,
          drivingsOf(view.program, kinds, part.id).filter(({ route }) => !isOfWord(view.program, part, route)),
        ]),
      ),
    [view.program, view.panel.parts, kinds],
  );
}

/** The parts of a page, those that stand on every page among them. */
export const partsOn = ({ panel }: Pick<Playable, "panel">, page: number | undefined): Part[] =>
  panel.parts.filter((part) => part.page === page || part.page == null);

/** Where a part stands, in columns of the page's width. */
export const placed = ({ place }: Part) => ({
  left: `calc(100cqw / ${PAGE_COLUMNS} * ${place.x})`,
  top: `calc(100cqw / ${PAGE_COLUMNS} * ${place.y})`,
  width: `calc(100cqw / ${PAGE_COLUMNS} * ${place.wide})`,
  height: `calc(100cqw / ${PAGE_COLUMNS} * ${place.high})`,
});

const bare = (part: Part) => ["text", "picture", "keyboard"].includes(part.kind);

/** How a part looks around what it holds. */
export const frameOf = (part: Part, onPicture: boolean) =>
  part.colour
    ? `rounded-lg border border-line2 panel-${part.colour} ${part.kind === "text" ? "p-1.5" : ""}`
    : bare(part)
      ? // Text on a picture has a ground of its own.
        onPicture && part.kind === "text"
        ? "rounded-lg bg-raised p-1.5"
        : ""
      : "rounded-lg border border-line bg-raised";

/** The names of those parts, or pages, that are shown as the controls stand. */
export function useShown({ panel }: Pick<Playable, "panel">, all: Pick<Part, "id" | "shown_when">[]): Set<number> {
  const shown = useSound(({ controls }) =>
    all
      .filter((one) => isShown(one, (id) => controls[id] ?? panel.parts.find((part) => part.id === id)?.at_first))
      .map(({ id }) => id)
      .join(),
  );
  return useMemo(() => new Set(shown === "" ? [] : shown.split(",").map(Number)), [shown]);
}

interface Props {
  view: Playable;
  /** The kinds of effects. */
  kinds: Schemas["EffectView"][];
  page: Page | undefined;
  /** Those that are chosen look so. */
  chosen?: number[];
  /** Laid over each part, and over the page: while it is arranged. */
  over?: (part: Part) => ReactNode;
  children?: ReactNode;
  /** Rows that there are at least. */
  rows?: number;
}

export function PanelPage({ view, kinds, page, over, children, chosen, rows = LEAST_ROWS }: Props) {
  const drivings = useDrivings(view, kinds);
  const pictureAt = useContext(PictureAt);
  const beneath = page?.picture ? pictureAt(page.picture) : undefined;
  const parts = useMemo(() => partsOn(view, page?.id), [view, page?.id]);
  const [narrow, setNarrow] = useState(false);
  const ground = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const watch = new ResizeObserver(([entry]) => setNarrow((entry?.contentRect.width ?? NARROW_PX) < NARROW_PX));
    watch.observe(ground.current!);
    return () => watch.disconnect();
  }, []);
  const seen = useShown(view, parts);
  const high = parts.reduce((most, { place }) => Math.max(most, place.y + place.high + 1), rows);
  const stacked = narrow && !over;
  return (
    <div ref={ground} className="@container size-full min-w-0" data-part="panel page">
      <div
        className={`relative min-h-full ${page?.colour ? `panel-${page.colour}` : ""} ${stacked ? "flex flex-col gap-2 p-2" : ""}`}
        style={{
          ...(stacked ? {} : { height: `calc(100cqw / ${PAGE_COLUMNS} * ${high})` }),
          ...(beneath ? { background: `center / cover url("${beneath}")` } : {}),
        }}
      >
        {parts
          .filter(({ id }) => over || seen.has(id))
          .map((part) => (
            <div
              key={part.id}
              data-control={part.id}
              data-name={part.name}
              className={[
                stacked ? "relative w-full shrink-0" : "absolute",
                frameOf(part, beneath !== undefined),
                chosen?.includes(part.id) ? "bg-chosen!" : "",
                over && !seen.has(part.id) ? "opacity-50" : "",
              ].join(" ")}
              style={stacked ? { height: `${Math.max(72, 24 * part.place.high)}px` } : placed(part)}
            >
              {/* While it is arranged, what lies over it takes the hand. */}
              <div className="size-full" inert={over !== undefined}>
                <PanelPart id={view.id} program={view.program} part={part} drives={drivings.get(part.id) ?? NONE} />
              </div>
              {over?.(part)}
            </div>
          ))}
        {children}
      </div>
    </div>
  );
}

const NONE: Driving[] = [];
