// Panel: what whoever plays the instrument sees and moves.
import { Link } from "@tanstack/react-router";
import { useMemo } from "react";
import { answer, api, type InstrumentView } from "../api/client";
import { freshName, KINDS, MOST_PARTS, type PartKind } from "../model/panel";
import { Keyboard } from "../parts/Keyboard";
import { Menu } from "../parts/Menu";
import { PanelPage, partsOn, useDrivings, useShown } from "../parts/PanelPage";
import { act } from "../state/edits";
import { sayPanel, usePanel } from "../state/panel";
import { usePending } from "../state/pending";
import { useKinds } from "../state/queries";
import { PanelBoard } from "./PanelBoard";
import { PageCard, PartsList, PresetsCard } from "./PanelCards";
import { PartCard } from "./PartCard";
import { SeveralCard } from "./SeveralCard";
import { addWishes } from "./partWishes";

export function PanelBench({ view }: { view: InstrumentView }) {
  const { page: wanted, chosen, arranging, setPage, choose, setArranging } = usePanel();
  const { panel } = view;
  // Whoever arranges sees all pages, whoever plays those that are shown.
  const shown = useShown(view, panel.pages);
  const pages = arranging ? panel.pages : panel.pages.filter(({ id }) => shown.has(id));
  const page = pages.find(({ id }) => id === wanted) ?? pages[0];
  const kinds = useKinds();
  const drivings = useDrivings(view, kinds);
  const parts = partsOn(view, page?.id);
  const some = useMemo(() => chosen.flatMap((id) => panel.parts.find((part) => part.id === id) ?? []), [chosen, panel.parts]);
  const everywhere = panel.parts.filter((part) => part.page == null);
  const [pending, begin] = usePending();
  const addPage = () => {
    const id = freshName();
    const name = `Page ${panel.pages.length + 1}`;
    sayPanel(view, `add ${name} to the panel`, [
      { page: id, fact: "page_name", value: name },
      { page: id, fact: "page_place", value: panel.pages.length },
    ]);
    setPage(id);
  };
  const add = (kind: PartKind, name: string) => {
    // Where there is no page yet, one comes with it.
    const fresh = page ?? { id: freshName(), name: "Main", colour: null, picture: null };
    const near = some.at(-1)?.place;
    const called = name[0]!.toUpperCase() + name.slice(1);
    const { id, wishes } = addWishes(view, { page: fresh, kind, name: called, ...(near ? { near } : {}) });
    sayPanel(view, `add a ${name} to the panel`, [
      ...(page ? [] : [{ page: fresh.id, fact: "page_name" as const, value: fresh.name }]),
      ...wishes,
    ]);
    choose([id]);
    setArranging(true);
  };
  const offer = () =>
    act(view.id, async () => answer(await api.POST("/api/instruments/{id}/panel", { params: { path: { id: view.id } } })));
  return (
    <main className="flex h-full min-h-0">
      <section aria-label="Panel" className="flex min-w-0 flex-1 flex-col gap-3 p-4 pb-0">
        <div className="flex flex-wrap items-center gap-2">
          <h2 className="mr-2 text-[17px] font-semibold">Panel</h2>
          {pages.map(({ id, name }) => (
            <button key={id} className={`button ${id === page?.id ? "on" : ""}`} aria-pressed={id === page?.id} onClick={() => setPage(id)}>
              {name}
            </button>
          ))}
          <button className="button" onClick={addPage}>
            + page
          </button>
          {everywhere.length > 0 && (
            <span className="truncate text-[12px] text-ink3">
              on every page: {everywhere.map(({ name }) => name.toLowerCase()).join(", ")}
            </span>
          )}
          <span className="grow" />
          {arranging && (
            <Menu
              align="end"
              className="button"
              disabled={panel.parts.length >= MOST_PARTS}
              button="+ part"
              acts={KINDS.map(({ kind, name }) => ({ name, begin: () => add(kind, name) }))}
            />
          )}
          <button className={`button ${arranging ? "on" : ""}`} aria-pressed={arranging} onClick={() => setArranging(true)}>
            Arrange
          </button>
          <button className={`button ${arranging ? "" : "on"}`} aria-pressed={!arranging} onClick={() => setArranging(false)}>
            Play
          </button>
          <Link
            to="/instruments/$id/play"
            params={{ id: String(view.id) }}
            className="button"
            title="The panel and its keys alone, in the full window"
          >
            Full window
          </Link>
        </div>
        <div className="card min-h-0 flex-1 overflow-y-auto">
          {panel.parts.length === 0 && panel.pages.length === 0 ? (
            <div className="grid h-full place-items-center p-6 text-center">
              <div>
                <p className="mb-3 text-ink2">
                  A few controls for whoever plays it. A first panel can be made of what the instrument has: nothing sounds otherwise until
                  somebody moves it.
                </p>
                <button className="button act" disabled={pending} onClick={() => begin(offer)}>
                  Lay out a first panel
                </button>
              </div>
            </div>
          ) : arranging ? (
            <PanelBoard key={page?.id} view={view} kinds={kinds} page={page} />
          ) : (
            <PanelPage key={page?.id} view={view} kinds={kinds} page={page} />
          )}
        </div>
        <div className="h-[118px] shrink-0 overflow-hidden">
          <Keyboard program={view.program} />
        </div>
      </section>
      <section
        aria-label="What is chosen"
        data-part="beside"
        className="flex w-[380px] shrink-0 flex-col gap-3 overflow-y-auto border-l border-line bg-paper p-4"
      >
        {some.length === 1 && arranging ? (
          <PartCard key={some[0]!.id} view={view} part={some[0]!} drivings={drivings} />
        ) : some.length > 1 && arranging ? (
          <SeveralCard view={view} parts={some} drivings={drivings} />
        ) : (
          <>
            {page && <PageCard key={page.id} view={view} page={page} count={parts.length} />}
            <PresetsCard view={view} />
            <PartsList view={view} />
          </>
        )}
      </section>
    </main>
  );
}
