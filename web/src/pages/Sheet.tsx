// A page made for paper: every cell, with room to tick it off.
import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { holdAt, roundRobinsOf, sameCell } from "../model/cells";
import { keyName } from "../model/keys";
import type { Whereabouts } from "../model/steps";
import { instrumentQuery } from "../state/queries";

export function Sheet() {
  const params: Whereabouts = useParams({ strict: false });
  const id = Number(params.id);
  const view = useQuery(instrumentQuery(id)).data;
  if (!view) return <p className="p-6 text-ink3">Opening…</p>;
  return (
    <main className="sheet h-full overflow-y-auto bg-white p-8 text-black">
      <div className="no-print mb-4 flex gap-2">
        <button className="button act" onClick={() => window.print()}>
          Print
        </button>
        <Link className="button" to="/instruments/$id/$step" params={{ id: String(id), step: "plan" }}>
          Back to the plan
        </Link>
      </div>
      <h1 className="text-[17px] font-semibold">{view.name}: recording sheet</h1>
      <p className="mb-4">
        {view.plan.rate_hz / 1000} kHz, {view.plan.bits} bit, {view.plan.channels === 2 ? "stereo" : "mono"}. Date ____________ &nbsp; Room
        ____________ &nbsp; Microphones ____________ &nbsp; Gain ____________
      </p>
      {view.plan.passes.map((pass, p) => (
        <section key={pass.id} className="mb-6">
          <h2 className="mb-1 text-[15px] font-semibold">
            {pass.name}
            {pass.controller ? `, controller ${pass.controller.number} at ${pass.controller.value}` : ""}
          </h2>
          <table className="w-full border-collapse text-[12px]">
            <thead>
              <tr>
                <th className="border border-black/40 px-2 py-1 text-left">note</th>
                <th className="border border-black/40 px-2 py-1 text-left">key</th>
                <th className="border border-black/40 px-2 py-1 text-left">hold</th>
                {pass.layers.map((layer) => (
                  <th key={layer.id} className="border border-black/40 px-2 py-1 text-left">
                    {layer.name} ({layer.strike_velocity})
                  </th>
                ))}
                <th className="w-1/4 border border-black/40 px-2 py-1 text-left">remarks</th>
              </tr>
            </thead>
            <tbody>
              {[...pass.rungs].reverse().map((rung) => (
                <tr key={rung}>
                  <td className="border border-black/40 px-2 py-1 font-semibold">{keyName(rung)}</td>
                  <td className="num border border-black/40 px-2 py-1">{rung}</td>
                  <td className="num border border-black/40 px-2 py-1">{holdAt(pass, view.figures[p], rung) / 1000} s</td>
                  {pass.layers.map((layer) => (
                    <td key={layer.id} className="border border-black/40 px-2 py-1">
                      {Array.from({ length: roundRobinsOf(pass, layer) }, (_, round_robin) => {
                        const cell = { pass: pass.id, key: rung, layer: layer.id, round_robin };
                        const has = view.takes.some((t) => t.chosen && sameCell(t.cell, cell));
                        return (
                          <span
                            key={round_robin}
                            className="mr-2 inline-block h-3.5 w-3.5 border border-black/60 text-center text-[10px] leading-3"
                          >
                            {has ? "✓" : ""}
                          </span>
                        );
                      })}
                    </td>
                  ))}
                  <td className="border border-black/40" />
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      ))}
    </main>
  );
}
