// A new instrument begins with its plan.
import { useNavigate } from "@tanstack/react-router";
import { useMemo, useState } from "react";
import { answer, api } from "../api/client";
import { plannedCells } from "../model/cells";
import { Brand } from "../parts/Brand";
import { Workbench } from "../parts/Workbench";
import { sayError } from "../state/view";
import { firstPlan, PlanForm } from "../steps/PlanForm";
import { paintPlan } from "../steps/paintPlan";

export function NewInstrument() {
  const [plan, setPlan] = useState(firstPlan);
  const [name, setName] = useState("");
  const navigate = useNavigate();
  const cells = useMemo(() => plannedCells(plan), [plan]);
  const create = async () => {
    const { id } = answer(await api.POST("/api/instruments", { body: { name: name.trim() || "Night ferry", plan } }));
    await navigate({ to: "/instruments/$id/$step", params: { id: String(id), step: "record" } });
  };
  return (
    <div className="flex h-full flex-col">
      <header className="flex h-[52px] shrink-0 items-center justify-between border-b border-line bg-sheet px-4">
        <Brand />
        <span className="text-ink2">New instrument, over MIDI</span>
      </header>
      <div className="min-h-0 flex-1">
        <Workbench plan={plan} cells={cells} paint={(surface, cell, box) => paintPlan(surface, plan, cell, box)}>
          <div className="flex items-end gap-3">
            <label className="flex-1">
              <span className="field-label">Name</span>
              <input className="mt-0.5 w-full rounded-lg border border-line bg-raised px-2 py-1 text-[15px]" value={name} placeholder="Night ferry" maxLength={120} onChange={(event) => setName(event.target.value)} />
            </label>
            <button className="button act" onClick={() => void create().catch(sayError)}>Make it and go on to Record</button>
          </div>
          <PlanForm plan={plan} onChange={setPlan} />
        </Workbench>
      </div>
    </div>
  );
}
