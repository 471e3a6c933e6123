// A new instrument begins with what it is and how it is recorded; a good first plan follows from that.
import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useEffect, useMemo, useState } from "react";
import { answer, api, type Plan, type Schemas } from "../api/client";
import { plannedCells } from "../model/cells";
import { Brand } from "../parts/Brand";
import { Choice } from "../parts/Choice";
import { Workbench } from "../parts/Workbench";
import { costQuery, patternsQuery, rigsQuery } from "../state/queries";
import { usePending } from "../state/pending";
import { sayError, useView } from "../state/view";
import { type How, HOWS, type Kind, KINDS, PlanForm } from "../steps/PlanForm";
import { paintPlan, planPlot } from "../steps/paintPlan";

type Offer = Schemas["Offer"];
const LAST_RIG = "ladder-rig";
const NO_PATTERN = "none";

/** The rig that was used last for this way of recording, else the first that fits. */
function rigFor(how: How, rigs: Schemas["RigView"][]): string {
  const last = localStorage.getItem(`${LAST_RIG}-${how}`);
  if (last && rigs.some((r) => r.id === last)) return last;
  if (how === "files") return "page";
  return (rigs.find((r) => r.simulated && r.by_hand === (how !== "over_midi")) ?? rigs[0])?.id ?? "page";
}

export function NewInstrument() {
  const [name, setName] = useState("");
  const [how, setHow] = useState<How>("over_midi");
  const [kind, setKind] = useState<Kind>("sustained");
  const [offer, setOffer] = useState<Offer | undefined>();
  const [more, setMore] = useState<Set<number>>(new Set());
  const rigs = useQuery(rigsQuery).data;
  const patterns = useQuery(patternsQuery).data ?? [];
  const navigate = useNavigate();
  const setPass = useView((state) => state.setPass);
  const look = useView((state) => state.look);
  const [rig, setRig] = useState<string | undefined>();
  const rigNow = rig ?? (rigs ? rigFor(how, rigs) : undefined);
  const [pattern, setPattern] = useState<Schemas["PatternView"] | undefined>();
  useEffect(() => setPass(0), [setPass]);
  useEffect(() => {
    // What begins with a pattern has its plan.
    if (!rigNow || pattern) return;
    void api
      .GET("/api/plan/offer", { params: { query: { kind, how, rig: rigNow } } })
      .then(answer)
      .then((next) => {
        setOffer(next);
        const rungs = next.plan.passes[0]?.rungs ?? [60];
        look(Math.round((rungs[0]! + rungs.at(-1)!) / 2 - 30), 61);
      })
      .catch(sayError);
  }, [kind, how, rigNow, look, pattern]);
  const plan = offer?.plan;
  const [pending, begin] = usePending();
  const setPlan = (next: Plan) => setOffer((before) => ({ plan: next, reasons: before?.reasons ?? [] }));
  const cells = useMemo(() => (plan ? plannedCells(plan) : []), [plan]);
  const view = useView();
  const shown = useMemo(() => (plan ? plannedCells(plan, Math.min(view.pass, plan.passes.length - 1)) : cells), [plan, view.pass, cells]);
  const figures = useQuery(costQuery(plan)).data?.passes;
  const known = rigs?.find((r) => r.id === plan?.source.rig);
  const programs = how === "over_midi" ? (known?.programs ?? []) : [];
  const create = async () => {
    if (!plan) return;
    localStorage.setItem(`${LAST_RIG}-${how}`, plan.source.rig);
    const called = name.trim() || known?.name.replace(/ \(.*/, "") || "New instrument";
    const others = [...more].filter((p) => p !== plan.source.program).sort((a, b) => a - b);
    const make = async (program: number, title: string) =>
      answer(
        await api.POST("/api/instruments", {
          body: { name: title, plan: { ...plan, source: { ...plan.source, program } }, pattern: pattern?.id ?? null },
        }),
      ).id;
    const first = await make(
      plan.source.program,
      others.length > 0 ? `${called} ${programs[plan.source.program - 1] ?? plan.source.program}` : called,
    );
    const then: number[] = [];
    for (const program of others) then.push(await make(program, `${called} ${programs[program - 1] ?? program}`));
    // Several programs are one unattended run, one after another; it begins at once.
    if (then.length > 0 && plan.source.rig !== "page")
      answer(await api.POST("/api/instruments/{id}/run", { params: { path: { id: first } }, body: { then } as never }));
    await navigate({ to: "/instruments/$id/$step", params: { id: String(first), step: "record" } });
  };
  return (
    <div className="flex h-full flex-col">
      <header className="flex h-[52px] shrink-0 items-center justify-between border-b border-line bg-sheet px-4">
        <Brand />
        <h1 className="text-ink2">New instrument</h1>
      </header>
      <div className="min-h-0 flex-1">
        {plan && (
          <Workbench
            plan={plan}
            cells={shown}
            plot={planPlot(plan)}
            paint={(surface, cell, box) => paintPlan(surface, plan, figures, cell, box)}
          >
            <div className="flex items-end gap-3">
              <label className="flex-1">
                <span className="field-label">Name</span>
                <input
                  className="written text-[15px]"
                  data-part="name"
                  value={name}
                  placeholder={known?.name.replace(/ \(.*/, "") ?? "New instrument"}
                  maxLength={120}
                  onChange={(event) => setName(event.target.value)}
                />
              </label>
              {patterns.length > 0 && (
                <div className="w-40">
                  <Choice
                    label="Begin with a pattern"
                    value={pattern ? String(pattern.id) : NO_PATTERN}
                    onChange={(id) => {
                      const next = patterns.find((p) => String(p.id) === id);
                      setPattern(next);
                      if (next) {
                        setHow(next.plan.source.how ?? "over_midi");
                        setKind(next.plan.kind);
                        setOffer({ plan: next.plan, reasons: [] });
                      }
                    }}
                    options={[{ value: NO_PATTERN, name: "none" }, ...patterns.map((p) => ({ value: String(p.id), name: p.name }))]}
                  />
                </div>
              )}
              <button className="button act" disabled={pending} onClick={() => begin(create)}>
                Make it and go on to Record
              </button>
            </div>
            <div className="grid grid-cols-4 gap-2" role="radiogroup" aria-label="How it is recorded">
              {HOWS.map((h) => (
                <button
                  key={h.value}
                  role="radio"
                  aria-checked={how === h.value}
                  className={`card px-3 py-2 text-left ${how === h.value ? "!border-act !bg-act-soft" : "hover:border-ink3"}`}
                  onClick={() => {
                    setPattern(undefined);
                    setHow(h.value);
                    setRig(undefined);
                  }}
                >
                  <span className="block font-semibold">{h.name}</span>
                  <span className="block text-[12px] leading-tight text-ink2">{h.says}</span>
                </button>
              ))}
            </div>
            <div className="flex flex-wrap items-end gap-3">
              <div className="w-44">
                <Choice<Kind>
                  label="What it is"
                  value={kind}
                  onChange={(next) => {
                    setPattern(undefined);
                    setKind(next);
                  }}
                  options={KINDS}
                />
              </div>
              {how !== "files" && how !== "over_midi" && (
                <div className="w-64">
                  <Choice
                    label="Rig"
                    value={rigNow ?? ""}
                    onChange={(next) => {
                      setPattern(undefined);
                      setRig(next);
                    }}
                    options={(rigs ?? [])
                      .filter((r) => !r.simulated || r.by_hand || how === "long_take")
                      .map((r) => ({ value: r.id, name: r.name }))}
                  />
                </div>
              )}
              <p className="pb-1 text-ink3">It {KINDS.find((k) => k.value === kind)?.says}.</p>
              {programs.length > 1 && (
                <div className="flex flex-wrap items-center gap-2">
                  <span className="field-label">in the same run also</span>
                  {programs.map(
                    (program, n) =>
                      n + 1 !== plan.source.program && (
                        <label key={program} className="flex items-center gap-1">
                          <input
                            type="checkbox"
                            checked={more.has(n + 1)}
                            onChange={(event) =>
                              setMore((before) => {
                                const next = new Set(before);
                                if (event.target.checked) next.add(n + 1);
                                else next.delete(n + 1);
                                return next;
                              })
                            }
                          />
                          {program}
                        </label>
                      ),
                  )}
                </div>
              )}
            </div>
            {how === "files" ? (
              <p className="card p-4 text-ink2">
                Rungs, layers and turns are read from the names of the files: make it, then drop a folder on the next page.
              </p>
            ) : (
              <PlanForm plan={plan} reasons={offer.reasons} onChange={setPlan} />
            )}
          </Workbench>
        )}
      </div>
    </div>
  );
}
