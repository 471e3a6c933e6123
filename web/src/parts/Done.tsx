// What was done to the instrument, newest first; a step is undone by itself where nothing after it depends on it.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Popover } from "radix-ui";
import { useState } from "react";
import { answer, api, type InstrumentView } from "../api/client";
import { sayError, useView } from "../state/view";

export function Done({ view }: { view: InstrumentView }) {
  const [open, setOpen] = useState(false);
  const queries = useQueryClient();
  const say = useView((state) => state.say);
  const queryKey = ["steps", view.id, view.kept_at];
  const steps = useQuery({
    queryKey,
    enabled: open,
    queryFn: async () => answer(await api.GET("/api/instruments/{id}/steps", { params: { path: { id: view.id } } })),
  });
  const undo = async (step: number) => {
    const undone = answer(await api.POST("/api/instruments/{id}/steps/{step}/undo", { params: { path: { id: view.id, step } } }));
    say(`Undone: ${undone.label}.`);
    await queries.refetchQueries({ queryKey: ["instrument", view.id] });
    await queries.invalidateQueries({ queryKey: ["steps", view.id] });
  };
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className="button !px-2" aria-label="What was done" title="What was done, step by step">
        ▾
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          sideOffset={6}
          className="card z-50 max-h-[60vh] w-[380px] overflow-y-auto p-2 text-[13px] shadow-lg"
          data-part="done"
        >
          <p className="px-2 pb-1 font-semibold">What was done</p>
          {steps.isError && <p className="px-2 text-mark">{steps.error.message}</p>}
          {steps.data?.length === 0 && <p className="px-2 text-ink3">Nothing yet: the instrument is as it was recorded.</p>}
          <ol>
            {steps.data?.map((step) => (
              <li key={step.id} className="flex items-baseline gap-2 rounded-md px-2 py-0.5">
                <span className={`min-w-0 flex-1 truncate ${step.undone ? "text-ink3 line-through" : ""}`} title={step.label}>
                  {step.label}
                </span>
                <time className="num text-[11.5px] text-ink3" dateTime={step.made_at}>
                  {new Date(step.made_at).toLocaleString([], { month: "short", day: "numeric", hour: "2-digit", minute: "2-digit" })}
                </time>
                {step.undone ? (
                  <span className="w-[58px] text-right text-[12px] text-ink3">undone</span>
                ) : (
                  <button
                    className="button w-[58px] !px-1 !py-0 text-[12px]"
                    disabled={!step.may_undo}
                    title={step.may_undo ? "Undo this step alone" : "Something that was done later says the same: undo that first"}
                    onClick={() => void undo(step.id).catch(sayError)}
                  >
                    Undo
                  </button>
                )}
              </li>
            ))}
          </ol>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
