// The unattended run.
import { useState } from "react";
import { answer, api, type InstrumentView, type Progress } from "../api/client";
import type { BoardCell } from "../model/cells";
import { keyName } from "../model/keys";
import { db, duration } from "../model/units";
import type { Plot } from "../parts/Board";
import { Choice } from "../parts/Choice";
import { sayError } from "../state/view";

export const recordPlot: Plot = {
  title: "peak, dB",
  low: -60,
  high: 0,
  line: -1,
  value: (take) => take.facts?.peak_dbfs ?? undefined,
  show: (value) => db(value),
  verdict: (value) => (value > -0.1 ? 2 : value > -1 ? 1 : 0),
};

const SAYS: Record<Progress["state"], string> = {
  listening: "Listening to the room",
  pulse: "Measuring the delay",
  recording: "Recording",
  paused: "Paused",
  finished: "Done",
  stopped: "Stopped",
};

export function RecordBench({ view, progress, cells }: { view: InstrumentView; progress: Progress | undefined; cells: BoardCell[] }) {
  const [speed, setSpeed] = useState<"full" | "real">("full");
  const missing = cells.filter((cell) => !cell.take).length;
  const going = progress !== undefined && progress.state !== "finished" && progress.state !== "stopped";
  const order = (name: "pause" | "resume" | "skip" | "stop") =>
    void api.POST("/api/instruments/{id}/run/{order}", { params: { path: { id: view.id, order: name } } }).then(answer).catch(sayError);
  const begin = () =>
    void api.POST("/api/instruments/{id}/run", { params: { path: { id: view.id } }, body: { speed } }).then(answer).catch(sayError);
  const layer = progress?.cell && view.plan.passes[progress.cell.pass]?.layers[progress.cell.layer]?.name;
  const level = going ? Math.max(0, Math.min(1, ((progress.peak_dbfs ?? -120) + 60) / 60)) : 0;
  return (
    <>
      <div className="card flex flex-col items-center gap-1 p-6" data-part="prompt">
        <p className="text-ink3">{progress ? SAYS[progress.state] : missing === 0 ? "Every cell has a take" : "Ready"}</p>
        <p className="text-[64px] leading-tight font-semibold">{going && progress.cell ? keyName(progress.cell.key) : missing === 0 ? "✓" : "–"}</p>
        <p className="text-[17px] text-ink2">{going && progress.cell ? layer : missing === 0 ? "go on to Trim" : `${missing} of ${cells.length} cells to record`}</p>
        <div className="mt-3 h-2 w-full max-w-md overflow-hidden rounded bg-line2" role="meter" aria-label="Input level" aria-valuemin={-60} aria-valuemax={0} aria-valuenow={Math.round(progress?.peak_dbfs ?? -60)}>
          <div className="h-full bg-act" style={{ width: `${level * 100}%` }} />
        </div>
        <p className="num text-ink3">{going ? db(progress.peak_dbfs) : "–"}</p>
      </div>
      <div className="card flex flex-col gap-2 p-4">
        <div className="flex justify-between"><span>{progress ? `${progress.done} of ${progress.total} in this run` : `${cells.length - missing} of ${cells.length} recorded`}</span><span className="num text-ink3">{going ? `${duration(progress.seconds_left)} of sound left` : ""}</span></div>
        <progress className="h-2 w-full accent-act" value={cells.length - missing} max={Math.max(1, cells.length)} aria-label="Cells recorded" />
        <div className="mt-2 flex items-end gap-2">
          {!going && (
            <>
              <button className="button act" disabled={missing === 0} onClick={begin}>{missing < cells.length && missing > 0 ? `Record the ${missing} missing` : "Start recording"}</button>
              <div className="w-56"><Choice label="Speed of the simulated rig" value={speed} onChange={setSpeed} options={[{ value: "full", name: "as fast as the machine can" }, { value: "real", name: "1×, as a device would" }]} /></div>
            </>
          )}
          {going && (
            <>
              {progress.state === "paused" ? <button className="button act" onClick={() => order("resume")}>Go on</button> : <button className="button" onClick={() => order("pause")}>Pause</button>}
              <button className="button" disabled={!progress.cell} onClick={() => order("skip")}>Skip this one</button>
              <button className="button" onClick={() => order("stop")}>Stop</button>
            </>
          )}
        </div>
      </div>
      <dl className="card num grid grid-cols-2 gap-3 p-4">
        <div><dt className="font-sans text-ink3">Delay of the rig, taken out</dt><dd>{progress?.delay_ms == null ? "measured at the start" : `${progress.delay_ms.toFixed(1)} ms`}</dd></div>
        <div><dt className="font-sans text-ink3">Noise floor of the room</dt><dd>{progress?.noise_floor_dbfs == null ? "measured at the start" : db(progress.noise_floor_dbfs)}</dd></div>
      </dl>
      <p className="text-ink3">Every take is kept the moment it ends. A retake never replaces an earlier one; a run that is stopped goes on with what is missing.</p>
    </>
  );
}
