// Recording: what it looks like depends on how the plan says the recordings come to be.
import { useState } from "react";
import type { Progress } from "../api/client";
import { type BoardCell, layerOf } from "../model/cells";
import { keyName } from "../model/keys";
import { db, duration } from "../model/units";
import type { Plot } from "../parts/Board";
import { Advised } from "../parts/Advised";
import { Bring } from "../parts/Bring";
import { Choice } from "../parts/Choice";
import { Takes } from "../parts/Takes";
import { usePending } from "../state/pending";
import { send } from "../state/sending";
import { sayError, useView } from "../state/view";
import { Files } from "./Files";
import { ByHand } from "./Hand";
import { LongTakes } from "./LongTakes";
import { isGoing, LevelMeter, type RecordProps } from "./recording";
import { RigCard } from "./Rig";
import { RigSpeed, type Speed } from "./RigSpeed";
import { beginRun, beginThrough, type Order, tell } from "./run";

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
  settling: "Wait for silence",
  waiting: "Play",
  tuning: "Being tuned",
  recording: "Recording",
  deciding: "Keep it?",
  paused: "Paused",
  finished: "Done",
  stopped: "Stopped",
};

export function RecordBench(props: RecordProps) {
  const { view, progress, cells } = props;
  const focus = useView((state) => state.focus);
  const focused = cells.find((cell) => cell.id === focus);
  const how = view.plan.source.how ?? "over_midi";
  return (
    <>
      {progress?.waits_for && (
        <p role="alert" className="card !border-chosen-line !bg-chosen p-3 text-ink">
          {progress.waits_for}
        </p>
      )}
      {how === "over_midi" && <OverMidi {...props} />}
      {how === "by_hand" && <ByHand {...props} />}
      {how === "long_take" && <LongTakes {...props} />}
      {how === "files" && <Files view={view} />}
      {(how === "over_midi" || how === "by_hand") && <Advised view={view} />}
      {how !== "files" && <RigCard view={view} progress={progress} />}
      {focused && <Takes view={view} cell={focused} />}
      {!isGoing(progress) && view.takes.length > 0 && <OutAndBack {...props} />}
    </>
  );
}

function OverMidi({ view, progress, cells }: RecordProps) {
  const [speed, setSpeed] = useState<Speed>("full");
  const { chosen } = useView();
  const missing = cells.filter((cell) => !cell.take).length;
  const going = isGoing(progress);
  const simulated = view.plan.source.rig !== "page";
  const order = (name: Order) => void tell(view.id, name).catch(sayError);
  const [pending, once] = usePending();
  const begin = (cellsAgain?: BoardCell[]) =>
    once(() => beginRun(view, { real_time: speed === "real", cells: cellsAgain?.map((c) => c.cell) ?? [] }));
  const layer = progress?.cell && layerOf(view.plan, progress.cell)?.name;
  const again = cells.filter((cell) => chosen.has(cell.id) && cell.take);
  return (
    <>
      <div className="card flex flex-col items-center gap-1 p-5" data-part="prompt">
        <p className="text-ink3">{progress ? SAYS[progress.state] : missing === 0 ? "Every cell has a take" : "Ready"}</p>
        <p className="text-[64px] leading-tight font-semibold">
          {going && progress.cell ? keyName(progress.cell.key) : missing === 0 ? "✓" : "–"}
        </p>
        <p className="mb-3 text-[17px] text-ink2">
          {going && progress.cell ? layer : missing === 0 ? "go on to Trim" : `${missing} of ${cells.length} cells to record`}
        </p>
        <LevelMeter progress={progress} />
      </div>
      <div className="card flex flex-col gap-2 p-4">
        <div className="flex justify-between">
          <span>
            {progress ? `${progress.done} of ${progress.total} in this run` : `${cells.length - missing} of ${cells.length} recorded`}
          </span>
          <span className="num text-ink3">{going ? `${duration(progress.seconds_left)} of sound left` : ""}</span>
        </div>
        <progress
          className="h-2 w-full accent-act"
          value={cells.length - missing}
          max={Math.max(1, cells.length)}
          aria-label="Cells recorded"
        />
        <div className="mt-2 flex items-end gap-2">
          {!going && (
            <>
              <button className="button act" disabled={missing === 0 || pending} onClick={() => begin()}>
                {missing < cells.length && missing > 0 ? `Record the ${missing} missing` : "Start recording"}
              </button>
              {again.length > 0 && missing < cells.length && (
                <button className="button" disabled={pending} onClick={() => begin(again)}>
                  Record {again.length} chosen again
                </button>
              )}
              {simulated && <RigSpeed speed={speed} onSet={setSpeed} />}
            </>
          )}
          {going && (
            <>
              {progress.state === "paused" ? (
                <button className="button act" onClick={() => order("resume")}>
                  Go on
                </button>
              ) : (
                <button className="button" onClick={() => order("pause")}>
                  Pause
                </button>
              )}
              <button className="button" disabled={!progress.cell} onClick={() => order("skip")}>
                Skip this one
              </button>
              <button className="button" onClick={() => order("stop")}>
                Stop
              </button>
            </>
          )}
        </div>
      </div>
    </>
  );
}

/** Takes that leave and come back: through a box, or as files. */
function OutAndBack({ view, cells }: RecordProps) {
  const { chosen, say } = useView();
  const [box, setBox] = useState<"simulated" | "page">("simulated");
  const takes = cells.filter((cell) => chosen.has(cell.id) && cell.take).map((cell) => cell.take!.id);
  const [pending, begin] = usePending();
  const url = (treated: boolean) => `/api/instruments/${view.id}/out?treated=${treated}&takes=${takes.join(",")}`;
  const back = async (files: File[]) => {
    let came = 0;
    for (const file of files) {
      await send(`/api/instruments/${view.id}/back?name=${encodeURIComponent(file.name)}`, file, () => undefined, {})
        .then(() => {
          came += 1;
        })
        .catch(sayError);
    }
    if (came > 0) say(`${came} ${came === 1 ? "file is" : "files are"} back as new takes; Undo brings the earlier choice back.`);
  };
  return (
    <section className="card p-3" aria-label="Out and back">
      <b className="font-semibold">Out and back</b> <span className="text-ink3">{takes.length} chosen on the board</span>
      <div className="mt-2 flex flex-wrap items-end gap-2">
        <a
          className={`button ${takes.length === 0 ? "pointer-events-none opacity-60" : ""}`}
          aria-disabled={takes.length === 0}
          href={url(false)}
        >
          As files, raw
        </a>
        <a
          className={`button ${takes.length === 0 ? "pointer-events-none opacity-60" : ""}`}
          aria-disabled={takes.length === 0}
          href={url(true)}
        >
          As files, trimmed
        </a>
        <Bring name="Bring edited files back" onFiles={(files) => void back(files).catch(sayError)} />
        <div className="grow" />
        <div className="w-44">
          <Choice
            label="Outside box"
            value={box}
            onChange={setBox}
            options={[
              { value: "simulated", name: "Echo (simulated)" },
              { value: "page", name: "This computer's devices" },
            ]}
          />
        </div>
        <button
          className="button"
          disabled={takes.length === 0 || pending}
          onClick={() => begin(() => beginThrough(view, takes, box === "page"))}
        >
          Play through the box
        </button>
      </div>
    </section>
  );
}
