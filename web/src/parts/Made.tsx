// What was written, or is being written.
import type { JobView } from "../api/client";
import { megabytes } from "../model/units";
import { Failed, JobBar } from "./JobBar";

/** As what is being written is called before it has a name. */
const WRITTEN: Record<string, string> = { sfz: "SFZ with its audio", sound_font2: "SoundFont 2", page: "Page that plays" };

export function Made({ job }: { job: JobView }) {
  const input = job.input as { format?: string; title?: string | null };
  const name = job.result?.name ?? input.title ?? WRITTEN[input.format ?? ""] ?? "SoundFont 2";
  return (
    <div className="flex items-center gap-3 border-t border-line2 px-3 py-2" data-job={job.id}>
      <span className="min-w-0 flex-1 truncate" title={name}>
        {name}
      </span>
      {job.state === "done" && job.result?.given && (
        <span className="text-ink3" data-part="given">
          {job.result.given.written} written, {job.result.given.same} as they were
          {job.result.given.removed > 0 ? `, ${job.result.given.removed} gone` : ""}
        </span>
      )}
      {job.state === "done" && !job.result?.given && (
        <>
          <span className="num text-ink3">{megabytes(job.result?.bytes ?? 0)}</span>
          <a className="button" href={`/api/jobs/${job.id}/file`} download>
            Download
          </a>
        </>
      )}
      {(job.state === "waiting" || job.state === "running") && <JobBar job={job} width="w-40" />}
      {job.state === "failed" && <Failed jobs={[job]} />}
      {job.state === "cancelled" && <span className="text-ink3">cancelled</span>}
    </div>
  );
}
