// The layers of a pass, a row each.
import { answer, api } from "../api/client";
import { Written } from "../parts/Written";
import type { Pass } from "./PlanForm";

/** So many layers, spread over the velocities, in place of others: what was recorded stays with its strength. */
export async function layersOf(count: number, before: Pass["layers"]): Promise<Pass["layers"]> {
  return answer(await api.POST("/api/plan/layers", { body: { count, before } }));
}

type Layer = Pass["layers"][number];

/** A whole number of 1 to 127. */
function whole(text: string): number | undefined {
  return /^\d+$/.test(text.trim()) ? Math.min(127, Math.max(1, Number(text))) : undefined;
}

/** What can be said of a layer, a column each; what is not understood changes nothing. */
interface Column {
  heads: { byHand: string; else: string };
  width: string;
  label: (layer: Layer, n: number) => string;
  value: (layer: Layer, pass: Pass, low: number | undefined) => string;
  said: (text: string, layer: Layer, pass: Pass) => Partial<Layer>;
  byHand?: (layer: Layer) => boolean;
  /** The first layer has none of its own. */
  notFirst?: boolean;
}

const COLUMNS: Column[] = [
  {
    heads: { byHand: "how it is asked for", else: "name" },
    width: "",
    label: (_, n) => `Name of layer ${n + 1}`,
    value: (layer) => layer.name,
    said: (text, layer) => ({ name: text.trim() || layer.name }),
  },
  {
    heads: { byHand: "stands for velocity", else: "struck with velocity" },
    width: "w-[26%]",
    label: (layer) => `Strike of ${layer.name}`,
    value: (layer) => String(layer.strike_velocity),
    said: (text, layer) => ({ strike_velocity: whole(text) ?? layer.strike_velocity }),
  },
  {
    heads: { byHand: "plays from velocity", else: "plays from velocity" },
    width: "w-[24%]",
    label: (layer) => `Threshold of ${layer.name}`,
    value: (_, __, low) => String(low ?? ""),
    said: (text, layer) => ({ low_velocity: text.trim() === "" ? null : (whole(text) ?? layer.low_velocity) }),
    byHand: (layer) => layer.low_velocity != null,
    notFirst: true,
  },
  {
    heads: { byHand: "round robins", else: "round robins" },
    width: "w-[18%]",
    label: (layer) => `Round robins of ${layer.name}`,
    value: (layer, pass) => String(layer.round_robins ?? pass.round_robins),
    said: (text, _, pass) => {
      const turns = whole(text);
      return { round_robins: turns === undefined || turns === pass.round_robins ? null : Math.min(64, turns) };
    },
    byHand: (layer) => layer.round_robins != null,
  },
];

export function Layers({ pass, lows, byHand, set }: { pass: Pass; lows: number[]; byHand: boolean; set: (values: Partial<Pass>) => void }) {
  const change = (n: number, values: Partial<Layer>) => set({ layers: pass.layers.map((l, m) => (m === n ? { ...l, ...values } : l)) });
  return (
    <div className="col-span-3 max-h-[170px] overflow-auto">
      <table className="w-full text-left text-[12px]">
        <thead className="text-ink3">
          <tr>
            {COLUMNS.map(({ heads, width }) => (
              <th key={heads.else} className={`pl-2 font-normal first:pl-0 ${width}`}>
                {byHand ? heads.byHand : heads.else}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {pass.layers.map((layer, n) => (
            <tr key={n}>
              {COLUMNS.map((column) => (
                <td key={column.heads.else} className="py-0.5 pl-2 first:pl-0">
                  {column.notFirst && n === 0 ? (
                    <span className="num px-1.5 text-ink3">1</span>
                  ) : (
                    <Written
                      quiet
                      label={column.label(layer, n)}
                      className={`num !mt-0 min-h-6 !px-1.5 !py-0.5 text-[12px] ${column.byHand?.(layer) ? "!border-act font-semibold" : ""}`}
                      value={column.value(layer, pass, lows[n])}
                      onKeep={(text) => change(n, column.said(text, layer, pass))}
                    />
                  )}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
