// A job that is going: how far it is, how long it will still take, and Cancel.
import { useMemo } from "react";
import { answer, api, type Schemas } from "../api/client";
import { duration } from "../model/units";
import { sayError, useView } from "../state/view";

/** Until so much of it was seen to be done, and so many seconds have passed, nothing is foretold. */
const SEEN_SHARE = 0.03;
const SEEN_S = 1.5;

export function JobBar({ job, width, cancelled }: { job: Schemas["JobView"]; width: string; cancelled?: string }) {
  const left = useSecondsLeft(job.id, job.share);
  const cancel = async () => {
    answer(await api.POST("/api/jobs/{id}/cancel", { params: { path: { id: job.id } } }));
    if (cancelled) useView.getState().say(cancelled);
  };
  return (
    <>
      <progress className={`h-2 ${width}`} value={job.share} max={1} aria-label="Done" />
      {left !== undefined && <span className="num whitespace-nowrap text-ink3">{duration(left)} left</span>}
      <button className="rounded px-1 underline hover:bg-line2" onClick={() => void cancel().catch(sayError)}>Cancel</button>
    </>
  );
}

/** From how far it came since it was first seen. */
function useSecondsLeft(id: number, share: number): number | undefined {
  const first = useMemo(() => ({ at: performance.now(), share }), [id]);
  const [seconds, done] = [(performance.now() - first.at) / 1000, share - first.share];
  return seconds < SEEN_S || done < SEEN_SHARE ? undefined : (seconds / done) * (1 - share);
}
