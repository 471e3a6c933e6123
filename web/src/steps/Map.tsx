// What sounds where: regions, made from the takes by rule.
import { useCallback, useMemo } from "react";
import { change, type InstrumentView, type TakeView } from "../api/client";
import { cellId, layerPlace } from "../model/cells";
import { keyName } from "../model/keys";
import { cents, db, semitones } from "../model/units";
import { Canvas, layerColour, MONO, SANS, type Surface } from "../parts/canvas";
import { Field } from "../parts/Field";
import { HEADER, keyAt, laneTop, useLook } from "../parts/Ladder";
import { sayError, useView } from "../state/view";

const STRETCH = 112;

/** The take of a sample, cleaned or not. */
function takesOf(view: InstrumentView): (sample: number) => TakeView | undefined {
  const takes = new Map(view.takes.map((take) => [String(take.id), take]));
  return (sample) => takes.get(view.program.samples[sample]?.source.split("~")[0] ?? "");
}

export function MapBoard({ view }: { view: InstrumentView }) {
  const { low, keys, focus, choose } = useView();
  const onWheel = useLook();
  const { regions } = view.program;
  const takeOf = useMemo(() => takesOf(view), [view]);
  const draw = useCallback(
    ({ ctx, width, height, colours }: Surface) => {
      const inner = width - STRETCH;
      const lane = (height - HEADER) / keys;
      const x = (velocity: number) => ((velocity - 1) / 127) * inner;
      ctx.fillStyle = colours.sheet;
      ctx.fillRect(0, 0, width, height);
      const layers = view.plan.passes[0]?.layers.length ?? 1;
      for (const region of regions) {
        const cell = takeOf(region.sample)?.cell;
        const top = Math.max(HEADER, laneTop(region.high_key, low, keys, height));
        const bottom = laneTop(region.low_key, low, keys, height) + lane;
        if (bottom <= HEADER || top >= height) continue;
        const left = x(region.low_velocity) + 2;
        const wide = x(region.high_velocity + 1) - left - 2;
        const colour = layerColour(colours, cell ? layerPlace(view.plan, cell) : 0, layers);
        const focused = cell !== undefined && focus === cellId(cell);
        ctx.beginPath();
        ctx.roundRect(left, top + 1, wide, bottom - top - 2, 4);
        ctx.globalAlpha = focused ? 1 : 0.45;
        ctx.fillStyle = focused ? colours.chosen : colour;
        ctx.fill();
        ctx.globalAlpha = 1;
        ctx.strokeStyle = focused ? colours.chosenLine : colour;
        ctx.lineWidth = focused ? 2 : 1;
        ctx.stroke();
        const rootTop = laneTop(region.root_key, low, keys, height);
        if (rootTop >= HEADER && region.root_key <= region.high_key && region.root_key >= region.low_key) {
          ctx.fillStyle = colour;
          ctx.fillRect(left + 1, rootTop + 1, wide - 2, Math.max(2, lane - 2));
        }
      }
      ctx.fillStyle = colours.line;
      ctx.fillRect(inner, 0, 1, height);
      // How far each key is from the root it is played from: to the left is stretched down, to the right up.
      const zero = inner + STRETCH * 0.62;
      ctx.fillRect(zero, HEADER, 1, height);
      for (let key = low; key < low + keys; key++) {
        const region = regions.find((r) => r.low_key <= key && key <= r.high_key);
        if (!region) continue;
        const stretch = key - region.root_key;
        ctx.fillStyle = Math.abs(stretch) > 4 ? colours.mark : Math.abs(stretch) > 2 ? colours.chosenLine : colours.act;
        ctx.globalAlpha = 0.8;
        const reach = (stretch / 12) * STRETCH * 0.6;
        ctx.fillRect(Math.min(zero, zero + reach), laneTop(key, low, keys, height) + lane * 0.2, Math.max(1, Math.abs(reach)), lane * 0.6);
        ctx.globalAlpha = 1;
      }
      ctx.fillStyle = colours.sheet;
      ctx.fillRect(0, 0, width, HEADER - 1);
      ctx.fillStyle = colours.line;
      ctx.fillRect(0, HEADER - 1, width, 1);
      ctx.textBaseline = "middle";
      ctx.fillStyle = colours.ink3;
      ctx.font = MONO;
      ctx.fillText("soft 1", 8, HEADER / 2);
      ctx.fillText("127 loud", inner - 66, HEADER / 2);
      ctx.font = SANS;
      ctx.fillText("velocity", inner / 2 - 20, HEADER / 2);
      ctx.fillText("stretch", inner + 10, HEADER / 2);
    },
    [view.plan, regions, takeOf, low, keys, focus],
  );
  return (
    <Canvas
      draw={draw}
      data-part="map"
      role="img"
      aria-label={`${regions.length} regions: key extent upward, velocity extent rightward`}
      onWheel={onWheel}
      onPointerDown={(event) => {
        const box = event.currentTarget.getBoundingClientRect();
        const key = keyAt(event.clientY - box.top, low, keys, box.height);
        const velocity = 1 + ((event.clientX - box.left) / (box.width - STRETCH)) * 127;
        const region = regions.find(
          (r) => r.low_key <= key && key <= r.high_key && velocity >= r.low_velocity && velocity < r.high_velocity + 1,
        );
        const cell = region && takeOf(region.sample)?.cell;
        if (cell) {
          const id = cellId(cell);
          choose(id, new Set([id]));
        }
      }}
    />
  );
}

export function MapBench({ view }: { view: InstrumentView }) {
  const focus = useView((state) => state.focus);
  const { strands, regions, samples } = view.program;
  const set = (fact: keyof InstrumentView["map"], keys: number, label: string) =>
    void change(view.id, label, [{ fact, value: Math.min(127, Math.max(0, Math.round(keys))) }]).catch(sayError);
  const take = view.takes.find((t) => t.chosen && cellId(t.cell) === focus);
  const region = take && regions.find((r) => samples[r.sample]?.source === String(take.id));
  return (
    <>
      <div>
        <h2 className="text-[17px] font-semibold">Strands</h2>
        <p className="text-[11.5px] text-ink3">sets of regions that sound together</p>
      </div>
      <table className="card w-full overflow-hidden">
        <thead className="text-left text-ink3">
          <tr>
            <th className="px-3 py-1.5 font-normal">strand</th>
            <th className="font-normal">sounds on</th>
            <th className="px-3 text-right font-normal">regions</th>
          </tr>
        </thead>
        <tbody>
          {strands.map((strand) => (
            <tr key={strand.id} className="border-t border-line2">
              <td className="px-3 py-1.5 font-semibold">{strand.name}</td>
              <td>{strand.sounds_on === "key_up" ? "key up" : "key down"}</td>
              <td className="num px-3 text-right">{regions.filter((r) => r.key.strand === strand.id).length}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <div className="card p-3">
        <h3 className="mb-2 font-semibold">How rungs share the keys between them</h3>
        <p className="mb-2 text-ink2">Gaps are filled from the rung above, stretched down.</p>
        <div className="grid grid-cols-3 gap-3">
          <Field
            label="Furthest stretch"
            value={view.map.furthest_stretch_keys}
            unit={semitones}
            onSet={(v) => set("furthest_stretch_keys", v, "change the furthest stretch")}
          />
          <Field
            label="Below the lowest rung"
            value={view.map.below_keys}
            unit={semitones}
            onSet={(v) => set("below_keys", v, "change the keys below")}
          />
          <Field
            label="Above the highest rung"
            value={view.map.above_keys}
            unit={semitones}
            onSet={(v) => set("above_keys", v, "change the keys above")}
          />
        </div>
      </div>
      {region ? (
        <div className="card p-3" data-part="region">
          <h3 className="mb-2 font-semibold">{samples[region.sample]?.name}</h3>
          <dl className="num grid grid-cols-[110px_1fr_1fr] gap-y-1.5">
            <dt className="font-sans text-ink3">Sounds on</dt>
            <dd>
              {keyName(region.low_key)} – {keyName(region.high_key)}
            </dd>
            <dd>
              strike {region.low_velocity} – {region.high_velocity}
            </dd>
            <dt className="font-sans text-ink3">Sounds like</dt>
            <dd>{db(region.gain_db)}</dd>
            <dd>
              {keyName(region.root_key)}, recording {cents.show(region.recording_cents)}
            </dd>
          </dl>
        </div>
      ) : (
        <p className="text-ink3">Click a region to see what it sounds on.</p>
      )}
    </>
  );
}
