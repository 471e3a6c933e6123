// Arranging a page: parts are chosen, dragged, sized and moved by keys, several at once; they snap to the page's grid.
import { useRef, useState } from "react";
import type { InstrumentView, Schemas } from "../api/client";
import { KINDS, type Page, PAGE_COLUMNS, type Part, type Place, within } from "../model/panel";
import { useDrag } from "../parts/drag";
import { PanelPage, partsOn } from "../parts/PanelPage";
import { sayPanel, usePanel } from "../state/panel";
import { removeWishes } from "./partWishes";

const CHOSEN = "border-2 border-chosen-line";
const NOT_CHOSEN = "border border-transparent hover:border-edge";

type Held = { what: "move"; id: number } | { what: "size"; id: number } | { what: "frame"; from: { x: number; y: number } };

const kindName = (part: Part) => KINDS.find(({ kind }) => kind === part.kind)?.name ?? part.kind;

/** In columns and rows, from so many pixels. */
const cells = (pixels: number, width: number) => Math.round((pixels * PAGE_COLUMNS) / width);

interface Props {
  view: InstrumentView;
  kinds: Schemas["EffectView"][];
  page: Page | undefined;
}

export function PanelBoard({ view, kinds, page }: Props) {
  const { chosen, choose } = usePanel();
  const parts = partsOn(view, page?.id);
  const board = useRef<HTMLDivElement>(null);
  /** The frame that is drawn around what is to be chosen, in pixels. */
  const [frame, setFrame] = useState<{ x: number; y: number; width: number; height: number }>();
  /** Moved by keys, and not yet let go. */
  const nudged = useRef<Map<number, Place> | undefined>(undefined);
  const isChosen = (id: number) => chosen.includes(id);
  const some = parts.filter(({ id }) => isChosen(id));
  const elementOf = (id: number) => board.current?.querySelector<HTMLElement>(`[data-control="${id}"]`);
  const width = () => board.current?.querySelector("[data-part='panel page']")?.clientWidth ?? 1;
  /** Shown while it is dragged, without drawing the page anew. */
  const show = (places: Map<number, Place>) => {
    const cell = width() / PAGE_COLUMNS;
    for (const [id, place] of places) {
      const element = elementOf(id);
      const before = parts.find((part) => part.id === id)?.place;
      if (!element || !before) continue;
      element.style.transform = `translate(${(place.x - before.x) * cell}px, ${(place.y - before.y) * cell}px)`;
      element.style.width = `calc(100cqw / ${PAGE_COLUMNS} * ${place.wide})`;
      element.style.height = `calc(100cqw / ${PAGE_COLUMNS} * ${place.high})`;
    }
  };
  const showAsKept = () => show(new Map(parts.map(({ id, place }) => [id, place])));
  /** All that is chosen by so much; none of it goes over an edge, or all stays. */
  const moved = (by: { x: number; y: number }, what: "move" | "size", of: Part[]): Map<number, Place> => {
    if (what === "size")
      return new Map(
        of.map(({ id, place }) => [
          id,
          within({ ...place, wide: Math.min(PAGE_COLUMNS - place.x, place.wide + by.x), high: place.high + by.y }),
        ]),
      );
    const left = Math.max(by.x, -Math.min(...of.map(({ place }) => place.x)));
    const x = Math.min(left, Math.min(...of.map(({ place }) => PAGE_COLUMNS - place.x - place.wide)));
    const y = Math.max(by.y, -Math.min(...of.map(({ place }) => place.y)));
    return new Map(of.map(({ id, place }) => [id, within({ ...place, x: place.x + x, y: place.y + y })]));
  };
  const keep = (places: Map<number, Place>, what: "move" | "size") => {
    const changed = parts.filter(({ id, place }) => {
      const to = places.get(id);
      return to && JSON.stringify(to) !== JSON.stringify(place);
    });
    // React draws it in its new place: what was shown meanwhile goes.
    for (const { id } of parts) elementOf(id)?.style.removeProperty("transform");
    if (changed.length === 0) return showAsKept();
    const names = changed.length === 1 ? changed[0]!.name : `${changed.length} parts`;
    sayPanel(
      view,
      `${what === "move" ? "move" : "size"} ${names}`,
      changed.map(({ id }) => ({ control: id, fact: "part_place" as const, value: places.get(id) })),
    );
  };
  const far = (by: { x: number; y: number }) => ({ x: cells(by.x, width()), y: cells(by.y, width()) });
  const held = (what: Held) => (what.what === "frame" ? [] : isChosen(what.id) ? some : parts.filter(({ id }) => id === what.id));
  const { handlers } = useDrag<Held>({
    take: (at, event) => {
      const target = event.target as HTMLElement;
      const size = target.closest<HTMLElement>("[data-size]");
      if (size) return { what: "size", id: Number(size.dataset["size"]) };
      const part = target.closest<HTMLElement>("[data-control]");
      if (!part) return { what: "frame", from: { x: at.x, y: at.y } };
      const id = Number(part.dataset["control"]);
      if (event.shiftKey || event.ctrlKey || event.metaKey) choose(isChosen(id) ? chosen.filter((other) => other !== id) : [...chosen, id]);
      else if (!isChosen(id)) choose([id, ...others(parts, id)]);
      return { what: "move", id };
    },
    move: (what, by) => {
      if (what.what === "frame") {
        setFrame({
          x: Math.min(what.from.x, what.from.x + by.x),
          y: Math.min(what.from.y, what.from.y + by.y),
          width: Math.abs(by.x),
          height: Math.abs(by.y),
        });
      } else show(moved(far(by), what.what, held(what)));
    },
    drop: (what, by) => {
      setFrame(undefined);
      if (what.what !== "frame") return keep(moved(far(by), what.what, held(what)), what.what);
      const cell = width() / PAGE_COLUMNS;
      const [x, y] = [Math.min(what.from.x, what.from.x + by.x) / cell, Math.min(what.from.y, what.from.y + by.y) / cell];
      const [right, bottom] = [x + Math.abs(by.x) / cell, y + Math.abs(by.y) / cell];
      choose(
        parts
          .filter(({ place }) => place.x < right && place.x + place.wide > x && place.y < bottom && place.y + place.high > y)
          .map(({ id }) => id),
      );
      return undefined;
    },
    cancel: () => {
      setFrame(undefined);
      for (const { id } of parts) elementOf(id)?.style.removeProperty("transform");
      showAsKept();
    },
    click: (what, _, event) => {
      if (what.what === "frame") choose([]);
      else if (!(event.shiftKey || event.ctrlKey || event.metaKey)) choose([what.id, ...others(parts, what.id)]);
    },
  });
  const keys = (event: React.KeyboardEvent) => {
    const by = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key];
    if (by && some.length > 0) {
      event.preventDefault();
      event.stopPropagation();
      const what = event.shiftKey ? ("size" as const) : ("move" as const);
      const now = some.map((part) => ({ ...part, place: nudged.current?.get(part.id) ?? part.place }));
      nudged.current = moved({ x: by[0]!, y: by[1]! }, what, now);
      show(nudged.current);
    } else if ((event.key === "Delete" || event.key === "Backspace") && some.length > 0) {
      event.preventDefault();
      event.stopPropagation();
      sayPanel(view, `remove ${some.length === 1 ? some[0]!.name : `${some.length} parts`}`, removeWishes(view, some));
      choose([]);
    } else if (event.key === "Escape") choose([]);
    else if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "a") {
      event.preventDefault();
      choose(parts.map(({ id }) => id));
    }
  };
  const letGo = (event: React.KeyboardEvent) => {
    const places = nudged.current;
    if (!event.key.startsWith("Arrow") || !places) return;
    nudged.current = undefined;
    keep(places, event.shiftKey ? "size" : "move");
  };
  return (
    // Every part in it is a button; what keys do to all that are chosen is heard here once.
    // eslint-disable-next-line jsx-a11y/no-noninteractive-element-interactions -- see above
    <div
      ref={board}
      role="group"
      aria-label="Parts of this page"
      className="panel-grid min-h-full select-none"
      onKeyDown={keys}
      onKeyUp={letGo}
      {...handlers}
    >
      <PanelPage
        view={view}
        kinds={kinds}
        page={page}
        chosen={chosen}
        over={(part) => (
          <>
            <button
              className={`absolute inset-0 cursor-grab touch-none rounded-lg outline-offset-1 ${isChosen(part.id) ? CHOSEN : NOT_CHOSEN}`}
              aria-label={`${part.name}, ${kindName(part)}`}
              aria-pressed={isChosen(part.id)}
              onFocus={(event) => {
                // Reached by Tab, it is what is worked on; a press chooses by itself.
                if (!event.currentTarget.matches(":active") && !isChosen(part.id)) choose([part.id]);
              }}
            />
            {isChosen(part.id) && (
              <span
                data-size={part.id}
                title="Drag to size it; Shift and the arrows do too"
                className="absolute -right-1 -bottom-1 z-10 size-3 cursor-nwse-resize touch-none rounded-sm border-2 border-chosen-line bg-raised"
              />
            )}
          </>
        )}
      >
        {frame && (
          <div
            className="pointer-events-none absolute border border-chosen-line bg-chosen/30"
            style={{ left: frame.x, top: frame.y, width: frame.width, height: frame.height }}
          />
        )}
      </PanelPage>
    </div>
  );
}

/** The others of a group: they are chosen together. */
function others(parts: Part[], id: number): number[] {
  const group = parts.find((part) => part.id === id)?.group;
  return group ? parts.filter((part) => part.group === group && part.id !== id).map((part) => part.id) : [];
}
