// The instrument beside its source: the same notes on both, what they are apart, and what brings them nearer.
import { useQuery } from "@tanstack/react-query";
import { useEffect, useEffectEvent, useState } from "react";
import { answer, api, type InstrumentView, type JobView, type Progress } from "../api/client";
import { type Beside as BesideView, stretchOf } from "../model/beside";
import { counted } from "../model/units";
import { Choice } from "../parts/Choice";
import { Failed, JobBar } from "../parts/JobBar";
import type { Pair } from "../sound/both";
import { queries } from "../state/client";
import { usePending } from "../state/pending";
import { besideQuery, makingsQuery } from "../state/queries";
import { sayError } from "../state/view";
import { BesideSource } from "./BesideSource";
import { HearBoth } from "./HearBoth";
import { Match } from "./Match";
import { Passages } from "./Passages";
import { TakeBeside } from "./TakeBeside";

/** While both are compared, what is known of them is looked at so often. */
const LOOK_AGAIN_MS = 1500;

interface Props {
  view: InstrumentView;
  progress: Progress | undefined;
}

export function Beside({ view, progress }: Props) {
  const jobs = useQuery(makingsQuery(view.id)).data?.filter((job) => job.kind === "beside");
  const job = jobs?.find(({ state }) => state === "running" || state === "waiting");
  // What both are apart is there before what brings them nearer was tried.
  const query = useQuery({ ...besideQuery(view.id), refetchInterval: job ? LOOK_AGAIN_MS : false });
  const [which, setWhich] = useState<string>("");
  const all = query.data;
  if (query.isError && !all) return <p className="card p-4 text-mark">{query.error.message}</p>;
  if (!all) return <p className="text-ink3">Looking…</p>;
  const one = all.find((beside) => String(beside.long_take) === which) ?? all[0];
  return (
    <div className="flex flex-col gap-3" data-part="beside">
      <BesideSource view={view} progress={progress} />
      {all.length === 0 && (
        <p className="card p-3 text-ink2">
          Nothing lies beside it yet. The same notes and chords, softly and hard, are heard on its source and on what was built; what both
          are apart is told note by note, and what would bring them nearer can be taken with one act.
        </p>
      )}
      {all.length > 1 && (
        <Choice
          label="Recording of the source"
          value={String(one?.long_take)}
          onChange={setWhich}
          options={all.map(({ long_take, name, score }) => ({
            value: String(long_take),
            name: `${name} · ${counted(score.notes.length, "note")}`,
          }))}
        />
      )}
      {one && <Compared key={one.long_take} view={view} beside={one} job={job} last={jobs?.[0]} />}
      <TakeBeside view={view} />
    </div>
  );
}

interface ComparedProps {
  view: InstrumentView;
  beside: BesideView;
  job: JobView | undefined;
  last: JobView | undefined;
}

/** What both are apart; asked for anew where the instrument has changed. */
function Compared({ view, beside, job, last }: ComparedProps) {
  const { long_take, of, compared, tried } = beside;
  const compare = async (again: boolean) => {
    const path = { id: view.id, long_take };
    answer(await api.POST("/api/instruments/{id}/beside/{long_take}", { params: { path, query: { again } } }));
    await queries.invalidateQueries({ queryKey: makingsQuery(view.id).queryKey });
  };
  const ask = useEffectEvent(() => void compare(false).catch(sayError));
  const lacks = compared !== of && !job;
  useEffect(() => {
    if (lacks) ask();
  }, [lacks, of]);
  const failed = !job && last?.state === "failed" ? last : undefined;
  const isLacking = !job && last?.state === "cancelled" && (compared !== of || !tried);
  const [pending, begin] = usePending();
  const [chosen, setChosen] = useState<number | undefined>();
  return (
    <>
      {job && (
        <div className="card flex items-center gap-3 p-3" role="status">
          <span>{compared === of ? "Trying what brings both nearer" : "Comparing both"}</span>
          <JobBar job={job} width="flex-1" cancelled="Cancelled." />
        </div>
      )}
      {failed && <Failed jobs={[failed]} />}
      {isLacking && (
        <button className="button self-start" disabled={pending} onClick={() => begin(() => compare(true))}>
          {compared === of ? "Try what brings both nearer" : "Compare them"}
        </button>
      )}
      {compared && beside.passages.length > 0 && (
        <>
          <div className="card p-3">
            <HearBoth pair={pairOf(view, beside, chosen)} />
          </div>
          <Match view={view} beside={beside} fresh={compared === of && tried} />
          <Passages beside={beside} chosen={chosen} setChosen={setChosen} />
        </>
      )}
    </>
  );
}

/** A passage of both, or all of them. */
function pairOf(view: InstrumentView, beside: BesideView, chosen: number | undefined): Pair {
  const { long_take, of, rate_hz, louder_db } = beside;
  const url = `/api/instruments/${view.id}/beside/${long_take}`;
  const stretch = stretchOf(beside, chosen);
  const channels = Math.min(2, view.long_takes.find(({ id }) => id === long_take)?.channels ?? 2);
  const side = (name: string, url: string, channels: number, [from, to]: [number, number]) => ({
    name,
    url,
    rate: rate_hz,
    channels,
    from,
    to,
  });
  return {
    // What was built sounds otherwise with everything that is changed of it.
    sides: [side("Source", `${url}/source`, channels, stretch.source), side("Built", `${url}/built?of=${of}`, 2, stretch.built)],
    louderDb: louder_db,
  };
}
