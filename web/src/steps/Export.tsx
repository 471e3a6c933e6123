// Giving it away.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type InstrumentView, type JobView } from "../api/client";
import type { Format } from "../model/formats";
import { megabytes } from "../model/units";
import { Choice } from "../parts/Choice";
import { Failed, JobBar } from "../parts/JobBar";
import { exportsQuery } from "../state/queries";
import { usePending } from "../state/pending";
import { useView } from "../state/view";

type Bits = "16" | "24" | "32";

const WIDTHS: { value: Bits; name: string }[] = [
  { value: "16", name: "16 bit, dithered" },
  { value: "24", name: "24 bit" },
  { value: "32", name: "32 bit float" },
];

export function ExportBench({ view }: { view: InstrumentView }) {
  const [format, setFormat] = useState<Format>("sfz");
  const [bits, setBits] = useState<Bits>("24");
  const exports = useQuery(exportsQuery(view.id));
  const losses = useQuery({
    queryKey: ["instrument", view.id, "losses", format],
    queryFn: async () => answer(await api.GET("/api/instruments/{id}/losses/{format}", { params: { path: { id: view.id, format } } })),
  });
  const { heardAs, setHeardAs } = useView();
  const [pending, begin] = usePending();
  const write = async () => {
    answer(await api.POST("/api/instruments/{id}/exports", { params: { path: { id: view.id } }, body: { format, bits: Number(bits) } }));
    await exports.refetch();
  };
  const regions = view.program.regions.length;
  const missing = view.takes.filter((t) => t.chosen && !t.treatment).length;
  return (
    <>
      <div>
        <h2 className="text-[17px] font-semibold">Export</h2>
        <p className="text-ink3">
          {regions} regions go out{missing > 0 ? `; ${missing} takes are still being measured` : ""}.
        </p>
      </div>
      <div className="card grid grid-cols-3 items-end gap-3 p-3">
        <Choice<Format>
          label="Format"
          value={format}
          onChange={(next) => {
            setFormat(next);
            if (next === "sound_font2" && bits === "32") setBits("24");
          }}
          options={[
            { value: "sfz", name: "SFZ with WAV files" },
            { value: "sound_font2", name: "SoundFont 2" },
          ]}
        />
        <Choice label="Bits" value={bits} onChange={setBits} options={WIDTHS.filter(({ value }) => format === "sfz" || value !== "32")} />
        <button className="button act" disabled={regions === 0 || pending} onClick={() => begin(write)}>
          Export
        </button>
      </div>
      <div className="card p-3">
        <div className="mb-1 flex items-center">
          <h3 className="grow font-semibold">What this format will lose</h3>
          <label className="flex items-center gap-1 text-ink2" title="F goes through the formats, in every step">
            <input
              type="checkbox"
              checked={heardAs === format}
              onChange={(event) => setHeardAs(event.target.checked ? format : undefined)}
            />
            Keys play it so
          </label>
        </div>
        {losses.isError && <p className="text-mark">{losses.error.message}</p>}
        {losses.data?.length === 0 && (
          <p className="text-ink2">
            Nothing: fades and the loops' crossfades are rendered into the audio, tuning is rounded to whole cents.
          </p>
        )}
        <ul className="list-disc pl-5">
          {losses.data?.map((loss) => (
            <li key={loss.what}>
              {loss.what} <span className="text-ink3">{loss.regions} regions</span>
            </li>
          ))}
        </ul>
      </div>
      <div className="card overflow-hidden">
        <h3 className="px-3 pt-2 font-semibold">Made so far</h3>
        {exports.data?.length === 0 && (
          <p className="px-3 pb-3 text-ink3">Nothing yet. What you export is listed here and can be fetched again.</p>
        )}
        {exports.data?.map((job) => (
          <Made key={job.id} job={job} />
        ))}
      </div>
    </>
  );
}

function Made({ job }: { job: JobView }) {
  const name = job.result?.name ?? ((job.input as { format?: string }).format === "sfz" ? "SFZ with WAV files" : "SoundFont 2");
  return (
    <div className="flex items-center gap-3 border-t border-line2 px-3 py-2" data-job={job.id}>
      <span className="min-w-0 flex-1 truncate">{name}</span>
      {job.state === "done" && (
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
