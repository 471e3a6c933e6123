// A long take on one waveform: where it is cut, by itself or by hand, and which cell each slice goes to.
import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { answer, api, type InstrumentView, type Schemas } from "../api/client";
import { change } from "../state/edits";
import { layerOf } from "../model/cells";
import { keyName } from "../model/keys";
import { decibels, duration, type Unit } from "../model/units";
import { Choice } from "../parts/Choice";
import { type NumberOf, Numbers } from "../parts/Numbers";
import { type Span, useDrawableLongTake, Waveform } from "../parts/Waveform";
import { player } from "../sound/player";
import { sayError, useView } from "../state/view";
import type { LongTake } from "./LongTakes";

type Slice = Schemas["Slice"];
type Dealt = Schemas["Dealt"];
type Deal = Schemas["DealName"];

const DEALS: { value: Deal; name: string }[] = [
  { value: "by_pitch", name: "by the pitch heard" },
  { value: "repeats", name: "each note with all its repeats" },
  { value: "in_order", name: "in order, strength after strength" },
  { value: "midi_file", name: "by the plan's MIDI file" },
];
/** Heard at once, so that it can be seen how far it is. */
const BATCH = 16;

const milliseconds: Unit = {
  show: (v) => `${Math.round(v)} ms`,
  parse: (text) => {
    const match = /^\s*([\d.,]+)\s*(ms|s)?\s*$/i.exec(text);
    const value = match && Number(match[1]!.replace(",", "."));
    return value == null || !Number.isFinite(value) ? undefined : match![2]?.toLowerCase() === "s" ? value * 1000 : value;
  },
  step: 10,
  fine: 1,
};

type Silence = Record<"over_floor_db" | "shortest_ms" | "shortest_silence_ms" | "room_before_ms" | "room_after_ms", number>;
type Grid = Record<"first_ms" | "spacing_ms" | "lag_ms" | "room_before_ms", number>;

const [FROM, TO] = [-86_400_000, 86_400_000];
const SILENCE: NumberOf<Silence>[] = [
  { of: "over_floor_db", label: "Over the noise", unit: decibels, low: 2, high: 60 },
  { of: "shortest_ms", label: "Shortest sound", unit: milliseconds, low: 5, high: TO },
  { of: "shortest_silence_ms", label: "Shortest silence", unit: milliseconds, low: 5, high: TO },
  { of: "room_before_ms", label: "Room before", unit: milliseconds, low: 0, high: TO },
  { of: "room_after_ms", label: "Room after", unit: milliseconds, low: 0, high: TO },
];
const GRID: NumberOf<Grid>[] = [
  { of: "first_ms", label: "First sound", unit: milliseconds, low: FROM, high: TO },
  { of: "spacing_ms", label: "Spacing", unit: milliseconds, low: 20, high: TO },
  { of: "lag_ms", label: "Lag", unit: milliseconds, low: FROM, high: TO },
  { of: "room_before_ms", label: "Room before", unit: milliseconds, low: 0, high: TO },
];
const CUTS: { value: "silence" | "grid"; name: string }[] = [
  { value: "silence", name: "where it is silent" },
  { value: "grid", name: "by the clock" },
];

/** What can be done to a slice: what all become, by the number of the one that is chosen and the place that was clicked. */
const EDITS: {
  name: string;
  label: string;
  needs?: (all: Slice[], n: number, place: number | undefined) => boolean;
  do: (all: Slice[], n: number, place: number) => Slice[];
}[] = [
  {
    name: "Split here",
    label: "split a slice",
    needs: (_, __, place) => place !== undefined,
    do: (all, n, place) => {
      const slice = all[n]!;
      if (place <= slice.first_frame || place >= slice.end_frame) return all;
      return [...all.slice(0, n), { ...slice, end_frame: place }, { ...slice, first_frame: place, in_tail: true }, ...all.slice(n + 1)];
    },
  },
  {
    name: "Join with next",
    label: "join two slices",
    needs: (all, n) => n + 1 < all.length,
    do: (all, n) => [...all.slice(0, n), { ...all[n]!, end_frame: all[n + 1]!.end_frame }, ...all.slice(n + 2)],
  },
];
const inOrder = (a: Slice, b: Slice) => a.first_frame - b.first_frame;

export function Slices({ view, take }: { view: InstrumentView; take: LongTake }) {
  const kept = take.slicing.slices;
  const drawable = useDrawableLongTake(take);
  const [by, setBy] = useState<"silence" | "grid">("silence");
  const [silence, setSilence] = useState<Silence>({
    over_floor_db: 10,
    shortest_ms: 150,
    shortest_silence_ms: 250,
    room_before_ms: 100,
    room_after_ms: 100,
  });
  const [grid, setGrid] = useState<Grid>({ first_ms: 2000, spacing_ms: 15000, lag_ms: 0, room_before_ms: 100 });
  const [cutting, setCutting] = useState(kept.length === 0);
  const [on, setOn] = useState<number | undefined>();
  const [place, setPlace] = useState<number | undefined>();
  const [moving, setMoving] = useState<{ id: string; frame: number } | undefined>();
  const [hearing, setHearing] = useState<{ done: number; of: number } | undefined>();
  const [how, setHow] = useState<Deal>("by_pitch");
  const [dealt, setDealt] = useState<Dealt[] | undefined>();
  const [phrase, setPhrase] = useState<Schemas["SteadyStretch"][] | undefined>();
  const stop = useRef(false);
  const look = useRef<[number, number]>([0, take.frames]);
  const say = useView((state) => state.say);

  const found = useQuery({
    queryKey: ["cut", take.id, by, silence, grid],
    enabled: cutting,
    queryFn: async () =>
      answer(
        await api.POST("/api/long-takes/{id}/cut", {
          params: { path: { id: take.id } },
          body: { cut: by === "silence" ? { silence } : { grid } },
        }),
      ),
    placeholderData: (previous) => previous,
    retry: 20,
    retryDelay: 500,
  });
  const slices = cutting ? (found.data?.slices ?? []) : kept;

  const keep = (label: string, next: Slice[]) =>
    change(view.id, label, [{ take: undefined, longTake: take.id, fact: "slices", value: { slices: next } }])
      .then(() => setDealt(undefined))
      .catch(sayError)
      .finally(() => setMoving(undefined));

  /** The notes are heard slice by slice; what is heard so far stays if it is stopped. */
  const listen = async (next: Slice[]): Promise<Slice[]> => {
    stop.current = false;
    const heard: Slice[] = [];
    for (let at = 0; at < next.length && !stop.current; at += BATCH) {
      setHearing({ done: at, of: next.length });
      heard.push(
        ...answer(await api.POST("/api/long-takes/{id}/hear", { params: { path: { id: take.id } }, body: next.slice(at, at + BATCH) })),
      );
    }
    setHearing(undefined);
    return [...heard, ...next.slice(heard.length)];
  };
  const accept = async () => {
    const next = await listen(slices);
    await keep(`cut into ${next.length} slices`, next);
    setCutting(false);
  };
  const again = async () => {
    const [first, end] = look.current;
    const fresh = answer(
      await api.POST("/api/long-takes/{id}/cut", {
        params: { path: { id: take.id } },
        body: { cut: by === "silence" ? { silence } : { grid }, first, end },
      }),
    ).slices;
    const outside = kept.filter((s) => s.end_frame <= first || s.first_frame >= end);
    const clipped = fresh.filter((s) => outside.every((o) => s.end_frame <= o.first_frame || s.first_frame >= o.end_frame));
    await keep("find this stretch again", [...outside, ...(await listen(clipped))].sort(inOrder));
  };

  const chosen = on === undefined ? undefined : slices[on];
  const edit = (label: string, make: (all: Slice[], n: number) => Slice[]) => {
    if (on === undefined || cutting) return;
    void keep(label, make([...kept], on));
  };
  const moved = (id: string, frame: number): Slice[] => {
    const next = [...kept];
    const slice = { ...next[on!]! };
    if (id === "start") slice.first_frame = Math.max(next[on! - 1]?.end_frame ?? 0, Math.min(frame, slice.end_frame - 1));
    else slice.end_frame = Math.min(next[on! + 1]?.first_frame ?? take.frames, Math.max(frame, slice.first_frame + 1));
    next[on!] = slice;
    return next;
  };
  const shown = moving && on !== undefined && !cutting ? moved(moving.id, moving.frame) : slices;
  const cellOf = new Map(dealt?.map((d) => [d.slice, d.cell] as const));
  const nameOf = (slice: Slice, n: number) => {
    const cell = cellOf.get(n);
    if (dealt && cell) return `${keyName(cell.key)} ${layerOf(view.plan, cell)?.name ?? ""}`;
    return slice.key == null ? String(n + 1) : keyName(slice.key);
  };
  const spans: Span[] = shown.map((slice, n) => ({
    first: slice.first_frame,
    end: slice.end_frame,
    name: nameOf(slice, n) + (slice.in_tail ? " ·tail" : ""),
    kind: n === on ? "chosen" : slice.left_out || (dealt && !cellOf.get(n)) ? "out" : slice.in_tail ? "doubtful" : "plain",
  }));
  const url = (first: number, end: number) => ({
    url: `/api/long-takes/${take.id}/audio?first=${first}&end=${Math.min(end, first + take.rate_hz * 20)}`,
    rate: take.rate_hz,
    channels: take.channels,
  });
  const used = slices.filter((s) => !s.left_out).length;
  const misfits = dealt?.filter((d) => !d.cell) ?? [];
  const fits = (dealt?.length ?? 0) - misfits.length;

  const findNotes = (
    <button
      className="button"
      title="Where there is no silence to cut at: steady stretches of what is in view, those that loop best first"
      onClick={() =>
        void api
          .GET("/api/long-takes/{id}/phrase", {
            params: { path: { id: take.id }, query: { first: look.current[0], end: look.current[1] } },
          })
          .then(answer)
          .then(setPhrase)
          .catch(sayError)
      }
    >
      Notes in this phrase
    </button>
  );
  return (
    <>
      <section className="card shrink-0 overflow-hidden" aria-label="The long take">
        <div className="flex items-baseline justify-between px-3 pt-2">
          <b className="truncate font-semibold">{take.name}</b>
          <span className="num text-[12px] text-ink3" data-part="slices" data-count={slices.length} data-used={used}>
            {duration(take.frames / take.rate_hz)} · {used} slices{slices.length > used ? `, ${slices.length - used} left out` : ""}
            {cutting && found.data ? ` · floor ${found.data.noise_floor_dbfs.toFixed(0).replace("-", "−")} dB` : ""}
          </span>
        </div>
        <div className="relative h-[calc(190px+var(--spare))]">
          <Waveform
            take={drawable}
            heard={[0, take.frames]}
            spans={spans}
            marks={
              chosen && !cutting
                ? [
                    { id: "start", label: "start", frame: shown[on!]!.first_frame, side: "right" },
                    { id: "end", label: "end", frame: shown[on!]!.end_frame, side: "left" },
                  ]
                : []
            }
            onDrag={(id, frame) => setMoving({ id, frame })}
            onCancel={() => setMoving(undefined)}
            onDrop={(id, frame) => void keep(`move the ${id} of a slice`, moved(id, frame))}
            onPlace={(frame, span) => {
              setOn(span);
              setPlace(frame);
              const slice = span === undefined ? undefined : shown[span];
              void player.hear(slice ? url(slice.first_frame, slice.end_frame) : undefined).catch(sayError);
            }}
            onLook={(first, end) => {
              look.current = [first, end];
            }}
          />
        </div>
        {!cutting && (
          <div className="flex flex-wrap gap-2 border-t border-line2 p-2">
            <button
              className="button"
              disabled={on === undefined}
              onClick={() => chosen && void player.hear(url(chosen.first_frame, chosen.end_frame)).catch(sayError)}
            >
              Hear
            </button>
            {EDITS.map(({ name, label, needs, do: made }) => (
              <button
                key={name}
                className="button"
                disabled={on === undefined || needs?.(kept, on, place) === false}
                onClick={() => edit(label, (all, n) => made(all, n, place ?? 0))}
              >
                {name}
              </button>
            ))}
            <button
              className="button"
              disabled={on === undefined}
              onClick={() =>
                edit(chosen?.left_out ? "use a slice" : "leave a slice out", (all, n) =>
                  all.map((s, m) => (m === n ? { ...s, left_out: !s.left_out } : s)),
                )
              }
            >
              {chosen?.left_out ? "Use it" : "Leave out"}
            </button>
            <button
              className="button"
              disabled={on === undefined}
              onClick={() => {
                edit("remove a slice", (all, n) => all.filter((_, m) => m !== n));
                setOn(undefined);
              }}
            >
              Remove
            </button>
            <button
              className="button"
              disabled={place === undefined || on !== undefined}
              title="A slice of a second, or as far as the next one, where the wave was clicked"
              onClick={() => {
                const next = kept.find((s) => s.first_frame > place!);
                const end = Math.min(place! + take.rate_hz, next?.first_frame ?? take.frames, take.frames);
                void listen([{ first_frame: place!, end_frame: end, in_tail: false, left_out: false }])
                  .then((fresh) => keep("add a slice", [...kept, ...fresh].sort(inOrder)))
                  .catch(sayError);
              }}
            >
              Add here
            </button>
          </div>
        )}
      </section>
      {phrase && (
        <section className="card p-3" aria-label="Notes in the phrase">
          <div className="flex justify-between">
            <b className="font-semibold">Stretches that would hold as a note</b>
            <button className="button !py-0.5" onClick={() => setPhrase(undefined)}>
              Close
            </button>
          </div>
          {phrase.length === 0 && <p className="text-ink3">Nothing here is steady for a quarter of a second.</p>}
          <div className="mt-2 flex flex-wrap gap-2">
            {phrase.map((s) => (
              <span key={s.first_frame} className="inline-flex overflow-hidden rounded-lg border border-line">
                <button
                  className="px-2 py-1 hover:bg-act-soft"
                  onClick={() => void player.hear(url(s.first_frame, s.end_frame)).catch(sayError)}
                >
                  {keyName(s.key)}{" "}
                  <span className="num text-[12px] text-ink3">
                    {((s.end_frame - s.first_frame) / take.rate_hz).toFixed(2)} s ·{" "}
                    {s.seam_db == null ? "no loop" : `seam ${s.seam_db.toFixed(0).replace("-", "−")} dB`}
                  </span>
                </button>
                <button
                  className="border-l border-line px-2 hover:bg-act-soft disabled:opacity-50"
                  disabled={kept.some((k) => k.first_frame < s.end_frame && s.first_frame < k.end_frame)}
                  title="Makes a slice of it, where no slice lies yet"
                  onClick={() => {
                    setCutting(false);
                    void keep(
                      "take a note out of a phrase",
                      [
                        ...kept,
                        { first_frame: s.first_frame, end_frame: s.end_frame, key: s.key, cents: s.cents, in_tail: false, left_out: false },
                      ].sort(inOrder),
                    );
                  }}
                >
                  Add
                </button>
              </span>
            ))}
          </div>
        </section>
      )}
      {cutting ? (
        <section className="card p-3" aria-label="Where to cut">
          <div className="grid grid-cols-4 items-end gap-3">
            <Choice label="Cut" value={by} onChange={setBy} options={CUTS} />
            {by === "silence" ? (
              <Numbers numbers={SILENCE} values={silence} onSet={setSilence} />
            ) : (
              <Numbers numbers={GRID} values={grid} onSet={setGrid} />
            )}
            <div className="col-span-2 flex gap-2">
              <button
                className="button act"
                disabled={slices.length === 0 || hearing !== undefined}
                onClick={() => void accept().catch(sayError)}
              >
                Keep these {used} slices
              </button>
              {kept.length > 0 && (
                <button className="button" onClick={() => setCutting(false)}>
                  Back
                </button>
              )}
              {findNotes}
            </div>
          </div>
          {found.isError && <p className="mt-2 text-ink3">{found.error.message}</p>}
        </section>
      ) : (
        <section className="card flex flex-col gap-2 p-3" aria-label="To the cells">
          <div className="flex flex-wrap items-end gap-3">
            <div className="w-64">
              <Choice
                label="Deal the slices out"
                value={how}
                onChange={(next) => {
                  setHow(next);
                  setDealt(undefined);
                }}
                options={DEALS}
              />
            </div>
            <button
              className="button"
              onClick={() =>
                void api
                  .POST("/api/long-takes/{id}/deal", { params: { path: { id: take.id } }, body: { how } })
                  .then(answer)
                  .then(setDealt)
                  .catch(sayError)
              }
            >
              Show where they go
            </button>
            <button
              className="button act"
              disabled={!dealt || fits === 0}
              onClick={() =>
                void api
                  .POST("/api/long-takes/{id}/takes", { params: { path: { id: take.id } }, body: dealt! })
                  .then(answer)
                  .then(() => {
                    setDealt(undefined);
                    say(`${fits} takes were made; the recording stays as it is.`);
                  })
                  .catch(sayError)
              }
            >
              Make {dealt ? fits : ""} takes
            </button>
            <div className="grow" />
            {findNotes}
            <button className="button" onClick={() => void again().catch(sayError)}>
              Find this stretch again
            </button>
            <button className="button" onClick={() => setCutting(true)}>
              Cut all anew
            </button>
          </div>
          {dealt && (
            <p data-part="dealt" className={misfits.length > 0 ? "text-warn" : "text-ink2"}>
              {fits} of {dealt.length} find a cell.
              {misfits.length > 0
                ? ` These fit nowhere: ${misfits
                    .slice(0, 12)
                    .map((d) => `${d.slice + 1}${slices[d.slice]?.key == null ? "" : ` (${keyName(slices[d.slice]!.key!)})`}`)
                    .join(", ")}${misfits.length > 12 ? "…" : ""}`
                : ""}
            </p>
          )}
        </section>
      )}
      {hearing && (
        <div className="card flex items-center gap-3 p-2">
          <span>Listening to the slices</span>
          <progress className="h-2 flex-1" value={hearing.done} max={hearing.of} />
          <button
            className="button !py-0.5"
            onClick={() => {
              stop.current = true;
            }}
          >
            Enough
          </button>
        </div>
      )}
    </>
  );
}
