// What stands under every step: what is chosen, what is going on, and the meter.
import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { answer, api, type InstrumentView, type JobView, type Progress } from "../api/client";
import { type BoardCell, cellId } from "../model/cells";
import { WAYS } from "../model/choosing";
import { type Plot, toCheck } from "../parts/Board";
import { FORMATS, nextHeard } from "../model/formats";
import { Failed, JobBar } from "../parts/JobBar";
import { useSettings } from "../state/settings";
import { keyName } from "../model/keys";
import { useSound } from "../sound/player";
import { queries } from "../state/client";
import { useLive } from "../state/live";
import { usePending } from "../state/pending";
import { makingsQuery } from "../state/queries";
import { useView } from "../state/view";
import { stopDropped, useDropped } from "../steps/dropped";
import { controllersOf } from "../model/driving";
import { Hands } from "../parts/Hands";
import { Menu } from "../parts/Menu";
import { PhraseBox } from "../parts/PhraseBox";

export function Foot({
  view,
  cells,
  progress,
  plot,
  note,
}: {
  view: InstrumentView;
  cells: BoardCell[];
  progress: Progress | undefined;
  plot: Plot | undefined;
  /** What is said in place of how many cells are chosen, where a step has none. */
  note?: string | undefined;
}) {
  const { chosen, raw, setRaw, heardAs, setHeardAs, heardEdition, setHeardEdition, choosePlayed, setChoosePlayed } = useView();
  const connected = useLive((state) => state.connected);
  const { taken, looped } = useMemo(
    () => ({ taken: cells.filter((c) => c.take).length, looped: cells.filter((c) => c.take?.treatment?.loop).length }),
    [cells],
  );
  const followed = useMemo(() => controllersOf(view.program.shapes), [view.program.shapes]);
  const waiting = useMemo(() => view.takes.filter((t) => !t.facts).length - view.unmeasured.length, [view]);
  return (
    <footer className="flex h-[26px] shrink-0 items-center gap-4 border-t border-line bg-sheet px-4 text-[11.5px] whitespace-nowrap text-ink2">
      {!connected && <span className="font-medium text-mark">The server does not answer; what was kept is safe, trying again…</span>}
      {note === undefined && <ChooseMenu cells={cells} plot={plot} />}
      <span>{note ?? `${chosen.size} of ${cells.length} cells chosen`}</span>
      <label className="flex items-center gap-1" title="The key that is struck is the chosen cell, in every step">
        <input type="checkbox" checked={choosePlayed} onChange={(event) => setChoosePlayed(event.target.checked)} />
        Choose what I play
      </label>
      <button
        className="rounded px-1 hover:bg-line2"
        aria-pressed={raw}
        title="R switches between the take as it was recorded and as it is treated"
        onClick={() => setRaw(!raw)}
      >
        Space plays <b className="font-medium">{raw ? "raw" : "treated"}</b>
      </button>
      <button
        className={`rounded px-1 hover:bg-line2 ${heardAs || heardEdition ? "text-mark" : ""}`}
        data-part="heard-as"
        title="F goes from the whole to what SFZ will hold of it, and to what a SoundFont will; Export tells what that is"
        onClick={() => (heardEdition ? setHeardEdition(undefined) : setHeardAs(nextHeard(heardAs)))}
      >
        keys play{" "}
        <b className="font-medium">
          {heardEdition ? `edition ${heardEdition.number}` : (FORMATS.find(({ value }) => value === heardAs)?.name ?? "the whole")}
        </b>
      </button>
      <span>
        {taken} recorded · {looped} looped{waiting > 0 ? ` · ${waiting} being measured` : ""}
      </span>
      {view.unmeasured.length > 0 && (
        <Failed
          jobs={view.unmeasured}
          what={view.unmeasured.length === 1 ? "A take could not be measured" : `${view.unmeasured.length} takes could not be measured`}
        />
      )}
      <RunningJob id={view.id} />
      <Dropped />
      <Outdated view={view} />
      {progress?.state === "recording" && (
        <span>
          recording {progress.done + 1} of {progress.total}
        </span>
      )}
      <span className="grow" />
      <PhraseBox />
      <Hands followed={followed} atFirst={view.controllers_at_first} />
      <Meter />
    </footer>
  );
}

/** Keys that ran short are told by their names, so many at most. */
const MOST_TOLD = 4;

/** What sounds, and how its audio comes. */
function Meter() {
  const { meter, rate, heads, of } = useSound();
  const memoryMb = useSettings((settings) => settings.memoryMb);
  const level = meter.peak > 1e-5 ? Math.round(20 * Math.log10(meter.peak)) : undefined;
  return (
    <>
      {of > 0 && heads < of && (
        <span>
          loading {heads} of {of}
        </span>
      )}
      {meter.ranOut > 0 && (
        <span
          className="min-w-0 truncate text-mark"
          title="They faded because their audio did not come in time; keys are marked until they are struck again"
        >
          {meter.ranOut === 1 ? "a voice" : `${meter.ranOut} voices`} ran out of audio
          {meter.short.length > 0 &&
            `: ${meter.short.slice(0, MOST_TOLD).map(keyName).join(" ")}${meter.short.length > MOST_TOLD ? " …" : ""}`}
        </span>
      )}
      <span
        className="num"
        data-part="meter"
        data-voices={meter.voices}
        data-peak={meter.peak}
        data-heads={heads}
        data-of={of}
        data-ran-out={meter.ranOut}
        data-full={meter.full}
        title={`Audio takes ${Math.round(meter.full * memoryMb)} MB of the ${memoryMb} MB it may take`}
      >
        {rate === 0
          ? "sound starts with the first key"
          : `voices ${meter.voices} / 128 · ${level === undefined ? "silent" : `${String(level).replace("-", "−")} dB`} · ${rate / 1000} kHz`}
      </span>
    </>
  );
}

/** Files that were dropped and are on their way. */
function Dropped() {
  const going = useDropped((state) => state.going);
  if (!going) return null;
  return (
    <span className="flex min-w-0 items-center gap-2" role="status" data-part="dropped">
      <span className="truncate">
        taking in «{going.name}», {going.done + 1} of {going.of}
      </span>
      <button className="rounded px-1 font-medium hover:bg-line2" onClick={stopDropped}>
        Cancel
      </button>
    </span>
  );
}

/** Takes that an earlier version measured stay as they are until somebody wants them measured again. */
function Outdated({ view }: { view: InstrumentView }) {
  const { chosen } = useView();
  const [pending, begin] = usePending();
  const jobs = useQuery(makingsQuery(view.id)).data;
  const busy = jobs?.some((job) => job.kind === "measure_again" && (job.state === "running" || job.state === "waiting"));
  const all = useMemo(() => view.takes.filter((take) => take.outdated), [view]);
  const some = all.filter((take) => take.chosen && chosen.has(cellId(take.cell)));
  if (all.length === 0 || busy) return null;
  const wished = some.length > 0 ? some : all;
  const again = async () => {
    answer(
      await api.POST("/api/instruments/{id}/measure-again", {
        params: { path: { id: view.id } },
        body: { takes: wished.map((take) => take.id) },
      }),
    );
    await queries.invalidateQueries({ queryKey: ["makings", view.id] });
  };
  return (
    <span
      className="whitespace-nowrap"
      data-part="outdated"
      title="They stay as they are until you want them measured again; Undo brings back what was suggested before"
    >
      {all.length} measured by an earlier Ladder{" "}
      <button className="rounded px-1 underline hover:bg-line2" disabled={pending} onClick={() => begin(again)}>
        Measure {some.length > 0 ? `the ${some.length} chosen` : "them"} again
      </button>
    </span>
  );
}

/** What is being done, and what its being cancelled means. */
const JOBS: Record<string, { doing: string; cancelled: string }> = {
  make: { doing: "making takes", cancelled: "Cancelled: no take was made." },
  measure_again: { doing: "measuring again", cancelled: "Cancelled: everything is as it was measured before." },
  loops: { doing: "looking for loops", cancelled: "Cancelled: every loop is as it was." },
  listen: { doing: "listening", cancelled: "Cancelled: what was heard so far is kept, and Check says what was not." },
  beside: { doing: "comparing", cancelled: "Cancelled: what both are apart is kept where that was found." },
  render: {
    doing: "rendering",
    cancelled: "Stopped. The setting stays, and what is missing is rendered when it is heard; Undo takes the setting back.",
  },
};

function RunningJob({ id }: { id: number }) {
  const jobs = useQuery(makingsQuery(id)).data;
  // Listening and comparing go on by themselves behind what somebody asked for; where they went wrong, Check says so.
  const asked = jobs?.filter((job) => job.kind !== "listen" && job.kind !== "beside");
  const isGoing = (job: JobView) => job.state === "running" || job.state === "waiting";
  const busy = asked?.find(isGoing) ?? jobs?.find(isGoing);
  const newest = asked?.[0];
  if (!busy) return newest?.state === "failed" ? <Failed jobs={[newest]} /> : null;
  const { doing, cancelled } = JOBS[busy.kind] ?? JOBS.render!;
  return (
    <span className="flex items-center gap-2" data-part="job">
      {doing}
      <JobBar job={busy} width="w-24" cancelled={cancelled} />
    </span>
  );
}

/** Many cells at once. */
function ChooseMenu({ cells, plot }: { cells: BoardCell[]; plot: Plot | undefined }) {
  const { focus, choose } = useView();
  const focused = cells.find((cell) => cell.id === focus);
  const take = (found: BoardCell[]) =>
    choose((found.find((cell) => cell.id === focus) ?? found[0])?.id ?? focus, new Set(found.map((cell) => cell.id)));
  return (
    <Menu
      button="Choose ▴"
      className="rounded border border-edge bg-raised px-2 leading-[18px]"
      side="top"
      align="start"
      acts={[
        ...WAYS.map(({ name, pick }) => ({ name, begin: () => take(pick(cells, focused)) })),
        { name: "all to check", begin: () => take(plot ? toCheck(plot, cells) : []) },
        { name: "none", begin: () => choose(focus, new Set()) },
      ]}
    />
  );
}
