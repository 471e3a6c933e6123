// Places to loop: those that were found by themselves, or those of another length, or from elsewhere on.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Schemas, type TakeLoop, type TakeView } from "../api/client";
import { db, signedDb } from "../model/units";
import type { OnBench } from "../parts/Bench";
import { Choice } from "../parts/Choice";
import { Written } from "../parts/Written";
import { sayError } from "../state/view";

export type LoopPlace = Schemas["LoopCandidate"];

export const STANDS_OUT =
  "How much more the sound changes at its seam than it does by itself: at 0 dB and under it cannot be told from the sound.";

/** What is told of a place to loop, a column each. */
const TOLD: { name: string; hint?: string; of: (place: LoopPlace, rate: number) => string }[] = [
  { name: "start", hint: "In seconds from the take's first frame", of: (l, rate) => (l.start_frame / rate).toFixed(3) },
  { name: "length", hint: "In seconds", of: (l, rate) => ((l.end_frame - l.start_frame) / rate).toFixed(3) },
  { name: "out", hint: STANDS_OUT, of: (l) => (l.audible_db == null ? "–" : bare(signedDb(l.audible_db))) },
  {
    name: "ends",
    hint: "The same where it stands out most, played three semitones under or over its root",
    of: (l) => (l.audible_ends_db == null ? "–" : bare(signedDb(l.audible_ends_db))),
  },
  { name: "seam", hint: "How unlike its ends are, in dB, before any crossfade", of: (l) => bare(db(l.seam_db, 0)) },
  { name: "drift", hint: "How far its level at the end lies from that at the start, in dB", of: (l) => l.drift_db.toFixed(1) },
  { name: "colour", hint: "How far its colour at the end lies from that at the start, in dB", of: (l) => (l.timbre_db ?? 0).toFixed(1) },
];

function bare(text: string): string {
  return text.replace(" dB", "");
}

/** Lengths to look for, in seconds. */
const LENGTHS: { value: string; name: string; of?: [number, number] }[] = [
  { value: "any", name: "of any length" },
  { value: "short", name: "up to half a second", of: [0.02, 0.5] },
  { value: "middle", name: "of half to two seconds", of: [0.5, 2] },
  { value: "long", name: "of two to six seconds", of: [2, 6] },
  { value: "longest", name: "of six seconds and more", of: [6, 60] },
];

/** Any length, as the server has it. */
const ANY: [number, number] = [0.1, 12];

const SEARCHED = "From where on loops are looked for, in all chosen: a share (50 %) or a time (1.5 s) from the start of the sound";

interface From {
  from_share?: number;
  from_s?: number;
}

/** From where on is searched, as it is typed: a share ("50 %") or a time ("1.5 s"); undefined where it is neither. */
function parseFrom(text: string): From | undefined {
  const match = /^\s*(\d+(?:[.,]\d+)?)\s*(%|s)?\s*$/.exec(text);
  if (text.trim() === "") return {};
  if (!match) return undefined;
  const value = Number(match[1]!.replace(",", "."));
  if (match[2] === "%") return value <= 100 ? { from_share: value / 100 } : undefined;
  return { from_s: value };
}

interface Props {
  on: OnBench;
  /** The loop that is set. */
  now: TakeLoop | undefined;
  /** Given the place that is chosen. */
  onTake: (place: LoopPlace) => void;
}

export function LoopPlaces({ on: { take, takes, view }, now, onTake }: Props) {
  const [length, setLength] = useState("any");
  const [from, setFrom] = useState<{ text: string; of: From }>({ text: "", of: {} });
  const [shortest_s, longest_s] = LENGTHS.find((l) => l.value === length)?.of ?? ANY;
  const wanted = length === "any" && Object.keys(from.of).length === 0 ? undefined : { shortest_s, longest_s, ...from.of };
  const keepFrom = (text: string) => {
    const of = parseFrom(text);
    if (of) setFrom({ text, of });
    else sayError(new Error(`«${text}» is neither a share (50 %) nor a time (1.5 s); what was searched before still is.`));
    return of !== undefined;
  };
  const look = async (of: TakeView) => answer(await api.GET("/api/takes/{id}/loops", { params: { path: { id: of.id }, query: wanted! } }));
  const found = useQuery({
    queryKey: ["loops", take.id, take.cleaned, wanted],
    enabled: wanted !== undefined,
    staleTime: Infinity,
    queryFn: () => look(take),
  });
  const places = wanted ? found.data : take.facts?.loops;
  /** The best of the wished length for every chosen take, looked for by a job and kept as one change. */
  const seek = async (evened: boolean) => {
    const where = from.text ? ` from ${from.text} on` : "";
    const which = `${evened ? "evened loops" : "loops"} ${LENGTHS.find((l) => l.value === length)?.name}`;
    const label = `${which}${where} on ${takes.length} ${takes.length === 1 ? "take" : "takes"}`;
    answer(
      await api.POST("/api/instruments/{id}/loops", {
        params: { path: { id: view.id } },
        body: { takes: takes.map((t) => t.id), evened, label, lengths: wanted },
      }),
    );
  };
  const single = async () =>
    answer(
      await api.POST("/api/instruments/{id}/make", {
        params: { path: { id: view.id } },
        body: { takes: takes.map((t) => t.id), how: { short_loop: { periods: 1 } } },
      }),
    );
  const isHeld = (l: LoopPlace) => now?.start_frame === l.start_frame && now.end_frame === l.end_frame;
  const all = takes.length > 1 ? ` for ${takes.length}` : "";
  const acts = [
    { name: "Use the best", begin: () => seek(false) },
    {
      name: "Even and loop",
      begin: () => seek(true),
      title:
        "For what dies away or changes its colour: both are held over the loop, and the best place is looked for in what is then heard",
      wantsPitch: true,
    },
    {
      name: "Single cycle",
      begin: single,
      title: "Makes new takes, resampled a little so that one period is whole frames",
      wantsPitch: true,
    },
  ];
  return (
    <div className="card flex min-w-0 shrink-0 flex-col overflow-hidden xl:flex-1">
      <div className="flex items-center justify-between gap-2 px-3 pt-1.5">
        <b className="font-semibold whitespace-nowrap">Places to loop</b>
        <div className="w-[76px]">
          <Written
            quiet
            label="Searched from"
            title={SEARCHED}
            className="num !mt-0 text-[12px]"
            placeholder="from 0 %"
            value={from.text}
            onKeep={keepFrom}
          />
        </div>
        <div className="w-36">
          <Choice quiet label="Loops of which length" value={length} onChange={setLength} options={LENGTHS} />
        </div>
      </div>
      <div className="min-h-0 flex-1 overflow-auto">
        <table className="num mt-1 w-full text-[12px]">
          <thead className="text-left text-ink3">
            <tr className="whitespace-nowrap">
              {TOLD.map(({ name, hint }) => (
                <th key={name} className="pl-2 font-normal last:pr-2" title={hint}>
                  {name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {places?.map((l) => (
              <tr
                key={`${l.start_frame}-${l.end_frame}`}
                className={`cursor-pointer border-t border-line2 ${isHeld(l) ? "bg-act-soft" : "hover:bg-sheet"}`}
                onClick={() => onTake(l)}
              >
                {TOLD.map(({ name, of }, n) => (
                  <td key={name} className="py-0.5 pl-2">
                    {n === 0 ? <button className="min-h-6 min-w-6">{of(l, take.rate_hz)}</button> : of(l, take.rate_hz)}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
        {places?.length === 0 && <p className="p-3 text-ink3">Nothing here is worth looping as it is. Evened it may be.</p>}
      </div>
      <div className="flex flex-wrap items-center gap-x-2 gap-y-1 border-t border-line2 px-3 py-1.5">
        {acts.map(({ name, begin, title, wantsPitch }) => (
          <button
            key={name}
            className="button !py-0.5"
            title={title}
            disabled={wantsPitch && !take.facts?.pitch}
            onClick={() => void begin().catch(sayError)}
          >
            {name}
            {all}
          </button>
        ))}
      </div>
    </div>
  );
}
