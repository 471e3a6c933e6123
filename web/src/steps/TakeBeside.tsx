// A take beside its neighbours and beside earlier takes of its own cell, at one pitch.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { InstrumentView, TakeView } from "../api/client";
import { cellId, othersOf } from "../model/cells";
import { keyName } from "../model/keys";
import { passageFigures } from "../model/beside";
import { Choice } from "../parts/Choice";
import type { Pair } from "../sound/both";
import { takeBesideQuery } from "../state/queries";
import { useView } from "../state/view";
import { HearBoth } from "./HearBoth";
import { ThirdOctaves } from "./ThirdOctaves";

/** The chosen cell's take beside another. */
export function TakeBeside({ view }: { view: InstrumentView }) {
  const focus = useView((state) => state.focus);
  const [which, setWhich] = useState("none");
  const take = view.takes.find((one) => one.chosen && one.facts && cellId(one.cell) === focus);
  if (!take) return null;
  const others = othersOf(view, take);
  const other = others.find(({ value }) => value === which);
  return (
    <section className="card flex flex-col gap-2 p-3" aria-label="A take beside another">
      <div className="flex items-end gap-3">
        <p className="grow">
          <b className="font-semibold">The take on {keyName(take.cell.key)}</b> <span className="text-ink3">chosen on the board</span>
        </p>
        <div className="w-56">
          <Choice
            label="Beside"
            value={other ? which : "none"}
            onChange={setWhich}
            options={[{ value: "none", name: others.length > 0 ? "nothing" : "there is no other" }, ...others]}
          />
        </div>
      </div>
      {other && <Laid key={`${take.id} ${other.take.id}`} take={take} other={other.take} name={other.name} />}
    </section>
  );
}

function Laid({ take, other, name }: { take: TakeView; other: TakeView; name: string }) {
  const { data, error } = useQuery(takeBesideQuery(take, other));
  if (error) return <p className="text-mark">{error.message}</p>;
  if (!data) return <p className="text-ink3">Comparing both…</p>;
  const { passage, louder_db, pace } = data;
  return (
    <>
      <HearBoth pair={pairOf(take, other, name, louder_db, pace)} />
      <p className="num text-[12.5px]" data-part="take apart">
        {[...passageFigures(passage), `thirds of octaves ${passage.apart.spectrum_db.toFixed(1)} dB`].join(" · ")}
      </p>
      <ThirdOctaves passages={[passage]} names={["this take", name]} />
    </>
  );
}

/** Both as long as the shorter, the other at the pitch of this one. */
function pairOf(take: TakeView, other: TakeView, name: string, louderDb: number, pace: number): Pair {
  const seconds = ({ treatment, rate_hz }: TakeView) => (treatment ? (treatment.end_frame - treatment.start_frame) / rate_hz : 0);
  const long = Math.min(seconds(take), seconds(other) / pace);
  const side = (name: string, one: TakeView, pace: number) => {
    const { id, treatment, rate_hz, channels, cleaned } = one;
    const sides = ["sum", "left", "right"].includes(treatment?.cleaning?.channels?.sides ?? "both") ? 1 : Math.min(2, channels);
    const stretch = `first=${treatment?.start_frame ?? 0}&end=${treatment?.end_frame ?? 0}&channels=${Math.min(2, channels)}`;
    const url = `/api/takes/${id}/audio?${stretch}&version=cleaned${cleaned ? `&name=${cleaned}` : ""}`;
    return { name, url, rate: rate_hz, channels: sides, from: 0, to: long * pace, pace };
  };
  return { sides: [side("This take", take, 1), side(`${name[0]!.toUpperCase()}${name.slice(1)}`, other, pace)], louderDb };
}
