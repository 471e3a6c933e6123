// The level of the whole: how loud its strands are as they are heard, and whether ten keys struck hard have room.
import { type ReactNode, useState } from "react";
import { answer, api, type InstrumentView, type Schemas } from "../api/client";
import { keyName } from "../model/keys";
import type { Wish } from "../model/edited";
import { placedRegions } from "../model/regions";
import { placedStrands } from "../model/strands";
import { db, lufs } from "../model/units";
import { change } from "../state/edits";
import { usePending } from "../state/pending";
import { useShelfLufs } from "../state/kept";
import { LEVEL, wishOf } from "./regionNumbers";

type Heard = Schemas["Heard"];
type LayerStep = Schemas["LayerStep"];

/** Less is not worth an act. */
const NEAR_DB = 0.1;

/** What was measured, how far it lies over what it should be, and what closes that. */
interface Row {
  what: string;
  level: string;
  /** In dB; `undefined` where it is silent. */
  over: number | undefined;
  than: string;
  act?: Act | false | undefined;
}

interface Act {
  name: string;
  begin: () => void;
}

export function LevelsCard({ view }: { view: InstrumentView }) {
  const [kept, setKept] = useState<{ heard: Heard; layers: LayerStep[]; of: InstrumentView }>();
  const [pending, begin] = usePending();
  const listen = async () => {
    const params = { path: { id: view.id } };
    const [heard, layers] = await Promise.all([
      api.GET("/api/instruments/{id}/heard", { params }),
      api.GET("/api/instruments/{id}/layer-levels", { params }),
    ]);
    setKept({ heard: answer(heard), layers: answer(layers), of: view });
  };
  const heard = kept?.heard;
  const changed = kept !== undefined && kept.of.program !== view.program;
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
      {changed && <p className="text-[12px] text-mark">The instrument was changed since: measure again before anything is done.</p>}
      {kept && heard?.key != null && <Levels view={view} heard={heard} layers={kept.layers} busy={changed || pending} begin={begin} />}
    </section>
  );
}

interface LevelsProps {
  view: InstrumentView;
  heard: Heard;
  layers: LayerStep[];
  busy: boolean;
  begin: (work: () => Promise<unknown>) => void;
}

function Levels({ view, heard, layers, busy, begin }: LevelsProps) {
  const shelfLufs = useShelfLufs();
  const strands = placedStrands(view).map(({ strand }) => strand);
  const lower = (label: string, by: (strand: number) => number) => () =>
    begin(async () => {
      const moved = strands.filter(({ id }) => by(id) !== 0);
      const wishes = moved.map(({ id, gain_db }) => ({ strand: id, fact: "strand_gain_db" as const, value: gain_db - by(id) }));
      await change(view.id, label, wishes);
    });
  const nameOf = (id: number) => strands.find((strand) => strand.id === id)?.name ?? "a strand that is gone";
  const over = (level: number | null | undefined, than: number) => (level == null ? undefined : level - than);
  const aboveShelf = over(heard.loudness_lufs, shelfLufs);
  const aboveCeiling = over(heard.peak_dbtp, heard.ceiling_dbtp);
  const besides = new Map(heard.strands.map((one) => [one.strand, one.over_others_db]));
  const apart = heard.strands.some((one) => isOff(one.over_others_db));
  const rows: Row[] = [
    {
      what: `${keyName(heard.key ?? 0)} at strike ${heard.strike}`,
      level: loud(heard.loudness_lufs),
      over: aboveShelf,
      than: `the shelf's ${lufs.show(shelfLufs)}`,
      act: isOff(aboveShelf) && {
        name: "Bring it to the shelf's",
        begin: lower("bring the instrument to the shelf's loudness", () => aboveShelf ?? 0),
      },
    },
    {
      what: `${heard.chord.length} keys struck hard`,
      level: heard.peak_dbtp == null ? "silent" : `${db(heard.peak_dbtp)}TP`,
      over: aboveCeiling,
      than: `${db(heard.ceiling_dbtp, 0)}TP`,
      // Under it there is room.
      act: aboveCeiling !== undefined &&
        aboveCeiling > 0 && {
          name: `Lower all by ${db(aboveCeiling)}`,
          begin: lower("lower all strands until ten keys have room", () => aboveCeiling),
        },
    },
    ...(heard.strands.length > 1 ? heard.strands : []).map((one, n) => ({
      what: nameOf(one.strand),
      level: loud(one.loudness_lufs),
      over: one.loudness_lufs == null ? undefined : one.over_others_db,
      than: "the strands' mean",
      act: n === 0 &&
        apart && { name: "Bring the strands together", begin: lower("bring the strands together", (id) => besides.get(id) ?? 0) },
    })),
    ...layers.map((step, n) => ({
      what: `${layerName(view, step)} of ${nameOf(step.strand)}, up to strike ${step.strike - 1}`,
      level: "",
      over: -step.step_db,
      than: "the layer over it",
      act: n === 0 &&
        layers.some(({ step_db }) => isOff(step_db)) && {
          name: "Bring the layers together",
          begin: () => begin(() => change(view.id, "bring the layers together", brought(view, layers))),
        },
    })),
  ];
  return (
    <table className="w-full">
      <tbody>
        {rows.map((row) => (
          <tr key={row.what} className="h-9 border-t border-line2">
            <td className="pr-3">{row.what}</td>
            <td className="num pr-3 whitespace-nowrap">{row.level}</td>
            <td className="pr-3 text-ink2">{compared(row)}</td>
            <td className="text-right whitespace-nowrap">
              {row.act && (
                <button className="button" disabled={busy} onClick={row.act.begin}>
                  {row.act.name}
                </button>
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function layerName(view: InstrumentView, { strand, layer }: LayerStep): string {
  const cells = view.program.regions.flatMap(({ key }) => (key.strand === strand && "cell" in key.of ? [key.of.cell] : []));
  const pass = cells.find((cell) => cell.layer === layer)?.pass;
  return view.plan.passes.find(({ id }) => id === pass)?.layers.find(({ id }) => id === layer)?.name ?? "a layer";
}

/** What makes layers go over into one another without a step: the softer ones are raised, or lowered, beside what was said of their regions. */
function brought(view: InstrumentView, steps: LayerStep[]): Wish[] {
  return placedRegions(view).flatMap((placed) => {
    const { key } = placed.region;
    const step = steps.find(({ strand, layer }) => strand === key.strand && "cell" in key.of && key.of.cell.layer === layer);
    return step && isOff(step.by_db) ? [wishOf(placed, LEVEL, LEVEL.of(placed) + step.by_db)] : [];
  });
}

const loud = (level: number | null | undefined) => (level == null ? "silent" : lufs.show(level));

const isOff = (over: number | undefined) => over !== undefined && Math.abs(over) >= NEAR_DB / 2;

function compared({ over, than }: Row): ReactNode {
  if (over === undefined) return null;
  if (!isOff(over)) return `as ${than}`;
  return `${db(Math.abs(over))} ${over > 0 ? "over" : "under"} ${than}`;
}
