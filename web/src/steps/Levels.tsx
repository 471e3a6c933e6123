// The level of the whole: how loud its strands are as they are heard, and whether ten keys struck hard have room.
import { useState } from "react";
import { answer, api, type InstrumentView, type Schemas } from "../api/client";
import { keyName } from "../model/keys";
import { apart, CEILING_DBTP, levelled } from "../model/levels";
import { placedStrands } from "../model/strands";
import { db, lufs } from "../model/units";
import { change } from "../state/edits";
import { usePending } from "../state/pending";
import { useSettings } from "../state/settings";

type Heard = Schemas["HeardView"];

const CEILING = `${db(CEILING_DBTP, 0)}TP`;
/** Less is not worth an act. */
const NEAR_DB = 0.1;

export function LevelsCard({ view }: { view: InstrumentView }) {
  const [kept, setKept] = useState<{ heard: Heard; of: InstrumentView }>();
  const [pending, begin] = usePending();
  const shelfLufs = useSettings((settings) => settings.shelfLufs);
  const strands = placedStrands(view).map(({ strand }) => strand);
  const listen = async () =>
    setKept({ heard: answer(await api.GET("/api/instruments/{id}/heard", { params: { path: { id: view.id } } })), of: view });
  const heard = kept?.heard;
  const changed = kept !== undefined && kept.of.program !== view.program;
  const say = (label: string, by: (strand: number) => number) =>
    begin(async () => {
      const gains = strands
        .map(({ id, gain_db }) => ({ strand: id, fact: "strand_gain_db" as const, value: gain_db + by(id), by: by(id) }))
        .filter((one) => Math.abs(one.by) >= NEAR_DB / 10)
        .map(({ strand, fact, value }) => ({ strand, fact, value }));
      await change(view.id, label, gains);
    });
  const offLufs = heard?.loudness_lufs == null ? undefined : heard.loudness_lufs - shelfLufs;
  const over = heard?.peak_dbtp == null ? undefined : heard.peak_dbtp - CEILING_DBTP;
  const spreadDb = heard ? apart(heard.strands) : 0;
  return (
    <section className="card flex flex-col gap-3 p-3" aria-label="Level of the whole" data-part="levels">
      <div className="flex items-baseline gap-3">
        <h3 className="grow">
          <b className="font-semibold">Level of the whole</b>{" "}
          <span className="text-[12px] text-ink3">one key, and ten struck hard, as the engine plays them</span>
        </h3>
        <button className="button" disabled={pending} onClick={() => begin(listen)}>
          {pending ? "Listening…" : heard ? "Measure again" : "Measure"}
        </button>
      </div>
      {heard && heard.key == null && <p className="text-ink2">No key sounds yet.</p>}
      {heard && heard.key != null && (
        <>
          {changed && <p className="text-[12px] text-mark">The instrument was changed since: measure again before anything is done.</p>}
          <Row
            says={`${keyName(heard.key)} at strike 100 is ${heard.loudness_lufs == null ? "silent" : lufs.show(heard.loudness_lufs)}${
              offLufs === undefined
                ? ""
                : `: ${Math.abs(offLufs) < NEAR_DB ? "as loud as the shelf" : `${db(Math.abs(offLufs))} ${offLufs > 0 ? "over" : "under"} the shelf's ${lufs.show(shelfLufs)}`}`
            }.`}
            act={offLufs !== undefined && Math.abs(offLufs) >= NEAR_DB ? "Bring it to the shelf's" : undefined}
            disabled={changed || pending}
            onAct={() => say("bring the instrument to the shelf's loudness", () => -(offLufs ?? 0))}
          />
          <Row
            says={`${heard.chord.length} keys struck hard reach ${heard.peak_dbtp == null ? "nothing" : `${db(heard.peak_dbtp)}TP`}${
              over === undefined ? "" : `: ${db(Math.abs(over))} ${over > 0 ? "over" : "under"} ${CEILING}`
            }.`}
            act={over !== undefined && over > 0 ? `Lower all by ${db(over)}` : undefined}
            disabled={changed || pending}
            onAct={() => say("lower all strands until ten keys have room", () => -(over ?? 0))}
          />
          {heard.strands.length > 1 && (
            <Row
              says={`${heard.strands
                .map(
                  (one) =>
                    `${strands.find(({ id }) => id === one.strand)?.name ?? ""} ${one.loudness_lufs == null ? "silent" : lufs.show(one.loudness_lufs)}`,
                )
                .join(", ")}.`}
              act={spreadDb >= NEAR_DB ? "Bring the strands together" : undefined}
              disabled={changed || pending}
              onAct={() => say("bring the strands together", (strand) => levelled(heard.strands, strand))}
            />
          )}
        </>
      )}
    </section>
  );
}

interface RowProps {
  says: string;
  act: string | undefined;
  disabled: boolean;
  onAct: () => void;
}

function Row({ says, act, disabled, onAct }: RowProps) {
  return (
    <div className="flex items-center gap-3">
      <p className="grow">{says}</p>
      {act && (
        <button className="button" disabled={disabled} onClick={onAct}>
          {act}
        </button>
      )}
    </div>
  );
}
