// All instruments.
import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { type DragEvent, useMemo, useRef, useState } from "react";
import { answer, api, type Card } from "../api/client";
import { Brand } from "../parts/Brand";
import { Bring } from "../parts/Bring";
import { Choice } from "../parts/Choice";
import { Sending } from "../parts/Sending";
import { Settings } from "../parts/Settings";
import { KINDS } from "../steps/PlanForm";
import { ACCEPT_SETS, hasSet, sendSet } from "../state/bringing";
import { shelfQuery } from "../state/queries";
import { ACCEPT, audioAmong, type Cancel, filesOf, send, useSending } from "../state/sending";
import { sayError } from "../state/view";
import { ShelfCard } from "./ShelfCard";

type Order = "newest" | "name" | "kind" | "undone";

export function Shelf() {
  const shelf = useQuery(shelfQuery);
  const [words, setWords] = useState("");
  const [kind, setKind] = useState("all");
  const [tag, setTag] = useState("all");
  const [order, setOrder] = useState<Order>("newest");
  const [showsAside, setShowsAside] = useState(false);
  const files = useFilesForShelf();
  const aside = shelf.data?.filter((card) => card.set_aside).length ?? 0;
  const looksAside = showsAside && aside > 0;
  // Once nothing lies there any more, the shelf is shown, also when something is set aside again.
  if (showsAside && shelf.data && aside === 0) setShowsAside(false);
  const all = useMemo(() => shelf.data?.filter((card) => card.set_aside === looksAside) ?? [], [shelf.data, looksAside]);
  const tags = useMemo(() => [...new Set(all.flatMap((card) => card.tags))].sort(), [all]);
  const cards = useMemo(() => {
    const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
    const fits = (card: Card) => {
      const text = `${card.name} ${card.tags.join(" ")} ${KINDS.find((k) => k.value === card.kind)?.name ?? ""}`.toLowerCase();
      return (
        (kind === "all" || card.kind === kind) && (tag === "all" || card.tags.includes(tag)) && wanted.every((word) => text.includes(word))
      );
    };
    const left = (card: Card) => card.cells - card.taken;
    const by: Record<Order, (a: Card, b: Card) => number> = {
      newest: (a, b) => b.kept_at.localeCompare(a.kept_at),
      name: (a, b) => a.name.localeCompare(b.name),
      kind: (a, b) => a.kind.localeCompare(b.kind) || a.name.localeCompare(b.name),
      undone: (a, b) => left(b) - left(a),
    };
    return all.filter(fits).sort(by[order]);
  }, [all, words, kind, tag, order]);
  return (
    <div className="relative flex h-full flex-col" {...files.target}>
      <header className="flex h-[52px] items-center gap-2 border-b border-line bg-sheet px-4">
        <Brand />
        <div className="grow" />
        <Settings />
        <Bring
          name="Bring files…"
          title="One recording plays on all keys at once; several become an instrument together; a SoundFont or a zip is gone through first"
          part="files"
          accept={`${ACCEPT},${ACCEPT_SETS}`}
          onFiles={files.begin}
        />
        <Bring
          name="Bring a folder…"
          title="A folder of recordings becomes an instrument; an SFZ with its recordings is gone through first"
          part="folder"
          folder
          onFiles={files.begin}
        />
        {(shelf.data?.length ?? 0) > 1 && (
          <Link to="/together" className="button" title="As presets of one SoundFont, or as SFZ that share their audio">
            Several as one…
          </Link>
        )}
        <Link to="/new" className="button act">
          New instrument
        </Link>
      </header>
      {files.note}
      <main className="min-h-0 flex-1 overflow-y-auto p-6">
        <div className="mb-4 flex flex-wrap items-end gap-3">
          <h1 className="text-[17px] font-semibold">{looksAside ? "Set aside" : "Shelf"}</h1>
          {aside > 0 && (
            <button className={`button ${looksAside ? "on" : ""}`} aria-pressed={looksAside} onClick={() => setShowsAside(!showsAside)}>
              {looksAside ? "Back to the shelf" : `Set aside (${aside})`}
            </button>
          )}
          <div className="mr-auto" />
          {all.length > 1 && (
            <>
              <label className="w-48">
                <span className="field-label">Words</span>
                <input className="written" value={words} onChange={(event) => setWords(event.target.value)} />
              </label>
              <div className="w-40">
                <Choice label="Kind" value={kind} onChange={setKind} options={[{ value: "all", name: "all kinds" }, ...KINDS]} />
              </div>
              {tags.length > 0 && (
                <div className="w-36">
                  <Choice
                    label="Tag"
                    value={tag}
                    onChange={setTag}
                    options={[{ value: "all", name: "all tags" }, ...tags.map((t) => ({ value: t, name: t }))]}
                  />
                </div>
              )}
              <div className="w-40">
                <Choice<Order>
                  label="Sorted by"
                  value={order}
                  onChange={setOrder}
                  options={[
                    { value: "newest", name: "last worked on" },
                    { value: "name", name: "name" },
                    { value: "kind", name: "kind" },
                    { value: "undone", name: "most to record" },
                  ]}
                />
              </div>
            </>
          )}
        </div>
        {all.length > 0 && cards.length === 0 && (
          <p className="text-ink3">
            Nothing on the shelf fits these words.{" "}
            <button
              className="underline"
              onClick={() => {
                setWords("");
                setKind("all");
                setTag("all");
              }}
            >
              Show all
            </button>
          </p>
        )}
        {shelf.isError && <p className="text-mark">{shelf.error.message}</p>}
        {shelf.data && all.length === 0 && !looksAside && (
          <div className="card max-w-lg p-6">
            <p className="mb-3">
              This is where your instruments will stand. Each begins with a plan: which notes are recorded, how strongly and how often. Or
              drop files here that you have: one recording plays on all keys at once, a folder becomes an instrument, and an SFZ with its
              folder or a SoundFont is taken in as it plays.
            </p>
            <Link to="/new" className="button act">
              New instrument
            </Link>
          </div>
        )}
        <ul className="grid grid-cols-[repeat(auto-fill,minmax(270px,1fr))] gap-4">
          {cards.map((card) => (
            <ShelfCard key={card.id} card={card} />
          ))}
        </ul>
      </main>
    </div>
  );
}

/** Files that are dropped on the shelf: one plays on all keys at once, several are gone through together. */
function useFilesForShelf() {
  const [over, setOver] = useState(false);
  const [one, setOne] = useState<string | undefined>();
  const { going, refused, bring, stop } = useSending();
  const [set, setSet] = useState<{ done: number; of: number } | undefined>();
  const [asideOfSet, setAsideOfSet] = useState<string[]>([]);
  /** A set of which some files were refused. */
  const [held, setHeld] = useState<string | undefined>();
  const cancel = useRef<Cancel>({});
  const navigate = useNavigate();
  const make = async (files: File[]) => {
    if (hasSet(files)) {
      cancel.current = {};
      setAsideOfSet([]);
      const sent = await sendSet(files, (done, of) => setSet({ done: Math.floor(done), of }), cancel.current).finally(() =>
        setSet(undefined),
      );
      setAsideOfSet(sent.refused);
      if (sent.id !== undefined && sent.refused.length === 0) return navigate({ to: "/brought/$set", params: { set: sent.id } });
      if (sent.id !== undefined) setHeld(sent.id);
      return;
    }
    const audio = audioAmong(files);
    if (audio.length === 0)
      throw new Error(
        "None of these can be read: recordings can (WAV, AIFF, FLAC, Ogg Vorbis, MP3), an SFZ with its folder, a SoundFont, a zip.",
      );
    const go = (id: number, step: string) => navigate({ to: "/instruments/$id/$step", params: { id: String(id), step } });
    const [file] = audio;
    if (audio.length === 1 && file) {
      setOne(file.name);
      const { id } = await send(`/api/files?name=${encodeURIComponent(file.name)}`, file, () => undefined, {}).finally(() =>
        setOne(undefined),
      );
      return go(id, "map");
    }
    const { plan } = answer(await api.GET("/api/plan/offer", { params: { query: { kind: "sustained", how: "files", rig: "page" } } }));
    const { id } = answer(await api.POST("/api/instruments", { body: { name: "New instrument", plan } }));
    const aside = await bring(id, audio);
    if (aside.length > 0) sayError(new Error(aside.slice(0, 3).join(" ")));
    return go(id, "record");
  };
  const stopSet = () => {
    cancel.current.stop = true;
    cancel.current.request?.abort();
  };
  const begin = (files: File[] | Promise<File[]>) => void Promise.resolve(files).then(make).catch(sayError);
  const target = {
    onDragOver: (event: DragEvent) => {
      event.preventDefault();
      setOver(true);
    },
    onDragLeave: (event: DragEvent) => {
      if (event.currentTarget === event.target) setOver(false);
    },
    onDrop: (event: DragEvent) => {
      event.preventDefault();
      setOver(false);
      begin(filesOf(event.dataTransfer.items));
    },
  };
  const note = (
    <>
      {over && (
        <div
          className="pointer-events-none absolute inset-3 z-10 grid place-items-center rounded-xl border-2 border-dashed border-act bg-act-soft/80"
          data-part="drop"
        >
          One recording plays on all keys at once; several, or a folder, become an instrument together. An SFZ with its folder, a SoundFont
          or a zip is gone through first.
        </div>
      )}
      {one && (
        <p className="border-b border-line bg-sheet px-6 py-2 text-ink2" role="status">
          Reading «{one}»…
        </p>
      )}
      <Sending going={going} refused={refused} stop={stop} className="border-b border-line bg-sheet px-6 py-2" />
      <Sending going={set} refused={asideOfSet} stop={stopSet} className="border-b border-line bg-sheet px-6 py-2" />
      {held && (
        <p className="border-b border-line bg-sheet px-6 py-2">
          <Link className="underline" to="/brought/$set" params={{ set: held }}>
            Go through the rest of them
          </Link>
        </p>
      )}
    </>
  );
  return { target, note, begin };
}
