// One long take: recorded here or brought as a file, then cut into takes.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Schemas } from "../api/client";
import { duration } from "../model/units";
import { Bring } from "../parts/Bring";
import { Choice } from "../parts/Choice";
import { Failed, JobBar } from "../parts/JobBar";
import { importsQuery } from "../state/queries";
import { usePending } from "../state/pending";
import { send } from "../state/sending";
import { sayError } from "../state/view";
import { isGoing, LevelMeter, type RecordProps } from "./recording";
import { beginRun, tell } from "./run";
import { Slices } from "./Slices";

export type LongTake = Schemas["LongTakeView"];

/** `brings`: only what brings one; what was brought is for something else than to be cut. */
export function LongTakes({ view, progress, brings }: RecordProps & { brings?: boolean }) {
  const [which, setWhich] = useState<string>("");
  const [sending, setSending] = useState<{ name: string; share: number; cancel: { request?: XMLHttpRequest } } | undefined>();
  const going = isGoing(progress);
  const [pending, begin] = usePending();
  const importing = useQuery(importsQuery(view.id)).data;
  const bring = async (file: File | undefined) => {
    if (!file) return;
    const cancel = {};
    setSending({ name: file.name, share: 0, cancel });
    await send(
      `/api/instruments/${view.id}/long-takes?name=${encodeURIComponent(file.name)}`,
      file,
      (share) => setSending({ name: file.name, share, cancel }),
      cancel,
    )
      .catch(sayError)
      .finally(() => setSending(undefined));
  };
  // What is known by what was played is not cut, but laid beside the instrument.
  const all = brings ? [] : view.long_takes.filter((take) => !take.played_by);
  const chosen = all.find((take) => String(take.id) === which) ?? all.at(-1);
  const busy = importing?.find((job) => job.state === "running" || job.state === "waiting");
  const failed = importing?.[0]?.state === "failed" ? importing[0] : undefined;
  return (
    <>
      <div className={brings ? "flex flex-col gap-2" : "card flex flex-col gap-3 p-3"} data-part="long">
        {going ? (
          <>
            <p className="text-center text-[40px] leading-tight font-semibold">
              Recording · <span className="num">{duration(progress.frames / view.plan.rate_hz)}</span>
            </p>
            <LevelMeter progress={progress} />
            <button className="button act self-center" onClick={() => void tell(view.id, "stop").catch(sayError)}>
              Stop and keep it
            </button>
          </>
        ) : (
          <div className="flex flex-wrap items-center gap-2">
            {!brings && (
              <button className="button act" disabled={pending} onClick={() => begin(() => beginRun(view, {}))}>
                Record one long take
              </button>
            )}
            <Bring name="Bring a recording…" one onFiles={([file]) => void bring(file)} />
            {!brings && (
              <>
                <a className="button" href={`/api/instruments/${view.id}/plan.mid`}>
                  The plan as a MIDI file
                </a>
                <span className="text-ink3">Played elsewhere from that file, every note finds its cell by itself.</span>
              </>
            )}
          </div>
        )}
        {sending && (
          <div className="flex items-center gap-3">
            <span className="truncate">Sending {sending.name}</span>
            <progress className="h-2 flex-1" value={sending.share} max={1} />
            <button className="button !py-0.5" onClick={() => sending.cancel.request?.abort()}>
              Cancel
            </button>
          </div>
        )}
        {busy && (
          <div className="flex items-center gap-3">
            <span>Reading it</span>
            <JobBar job={busy} width="flex-1" />
          </div>
        )}
        {failed && !busy && <Failed jobs={[failed]} />}
      </div>
      {all.length > 1 && (
        <Choice
          label="Long take"
          value={String(chosen?.id ?? "")}
          onChange={setWhich}
          options={all.map((take) => ({
            value: String(take.id),
            name: `${take.name} · ${duration(take.frames / take.rate_hz)}${take.broken_off ? " · broken off" : ""}`,
          }))}
        />
      )}
      {chosen?.broken_off && !going && (
        <p className="card !border-chosen-line !bg-chosen p-3">
          The recording of «{chosen.name}» broke off: what had arrived, {duration(chosen.frames / chosen.rate_hz)}, is kept and can be cut.
        </p>
      )}
      {chosen && !going && <Slices key={chosen.id} view={view} take={chosen} />}
    </>
  );
}
