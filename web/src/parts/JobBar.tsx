// A job that is going: how far it is, how long it will still take, and Cancel; one that failed: why, and once more.
import { answer, api, type JobView } from "../api/client";
import { duration } from "../model/units";
import { queries } from "../state/client";
import { useLive } from "../state/live";
import { usePending } from "../state/pending";
import { useView } from "../state/view";

/** Until so much of it was seen to be done, and so many seconds have passed, nothing is foretold. */
const SEEN_SHARE = 0.03;
const SEEN_S = 1.5;

export function JobBar({ job, width, cancelled }: { job: JobView; width: string; cancelled?: string }) {
  const left = useSecondsLeft(job.id);
  const [pending, begin] = usePending();
  const cancel = async () => {
    const then = answer(await api.POST("/api/jobs/{id}/cancel", { params: { path: { id: job.id } } }));
    const { say } = useView.getState();
    if (then.state === "cancelled") say(cancelled ?? "Cancelled.");
    else say(then.state === "done" ? "It was done already: nothing was cancelled." : "It had ended already.");
    await queries.invalidateQueries({ queryKey: ["exports"] });
  };
  return (
    <>
      <progress className={`h-2 ${width}`} value={job.share} max={1} aria-label="Done" />
      {job.tries > 1 && (
        <span className="whitespace-nowrap text-ink3">
          try {job.tries} of {job.most_tries}
        </span>
      )}
      {left !== undefined && <span className="num whitespace-nowrap text-ink3">{duration(left)} left</span>}
      <button className="rounded px-1 underline hover:bg-line2" disabled={pending} onClick={() => begin(cancel)}>
        Cancel
      </button>
    </>
  );
}

/** Jobs that ended badly, as one: what went wrong with the first, and all of them once more. */
export function Failed({ jobs, what }: { jobs: JobView[]; what?: string }) {
  const [pending, begin] = usePending();
  const hopeful = jobs.filter((job) => job.may_try_again);
  const again = async () => {
    for (const job of hopeful) answer(await api.POST("/api/jobs/{id}/again", { params: { path: { id: job.id } } }));
    await queries.invalidateQueries({ queryKey: ["exports"] });
  };
  const [first] = jobs;
  if (!first) return null;
  return (
    <span className="flex min-w-0 items-center gap-2" data-part="failed">
      <span className="truncate text-mark" title={first.error ?? undefined}>
        {what ? `${what}: ` : ""}
        {first.error}
      </span>
      {hopeful.length > 0 && (
        <button className="shrink-0 rounded px-1 underline hover:bg-line2" disabled={pending} onClick={() => begin(again)}>
          Try again
        </button>
      )}
    </span>
  );
}

/** From how far it came since it was first heard of. */
function useSecondsLeft(id: number): number | undefined {
  const heard = useLive((state) => state.jobs[id]);
  if (!heard) return undefined;
  const { first, last } = heard;
  const { share } = last;
  const [seconds, done] = [(last.at - first.at) / 1000, share - first.share];
  return seconds < SEEN_S || done < SEEN_SHARE ? undefined : (seconds / done) * (1 - share);
}
