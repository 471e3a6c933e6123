// The one way in which the page edits: shown at once, sent in order, taken back where it is refused.
import { useMemo } from "react";
import { create } from "zustand";
import { answer, api, type InstrumentView, type Plan } from "../api/client";
import { type Edit, madeFrom, type Wish, withEdit } from "../model/edited";
import { queries } from "./client";

/** Edits that are on their way, by instrument, in their order. */
const useEdits = create<{ pending: Record<number, Edit[]> }>(() => ({ pending: {} }));

const pendingOf = (instrument: number) => useEdits.getState().pending[instrument] ?? [];

function setPending(instrument: number, edits: Edit[]): void {
  useEdits.setState(({ pending }) => ({ pending: { ...pending, [instrument]: edits } }));
}

/** An instrument as it was kept, with what is on its way laid over it. */
export function useEdited(kept: InstrumentView): InstrumentView {
  const pending = useEdits((state) => state.pending[kept.id]);
  // Who asked is told of an answer a moment later than an edit is taken from those on their way: between the two, what was set would jump back.
  const newest = queries.getQueryData<InstrumentView>(["instrument", kept.id]) ?? kept;
  return useMemo(() => (pending ?? []).reduce(withEdit, newest), [newest, pending]);
}

/** What was sent last of each instrument: the next waits for its answer. */
const lines = new Map<number, Promise<unknown>>();
/** The fetch that is going, and the one that follows it: an answer that came before one began is in it. */
const going = new Map<number, Promise<void>>();
const following = new Map<number, Promise<void>>();

/** Ends with a fetch that began after now; of many that are asked for meanwhile one is done, and none breaks off another. */
function fetched(instrument: number): Promise<void> {
  const waiting = following.get(instrument);
  if (waiting) return waiting;
  const next = (going.get(instrument) ?? Promise.resolve()).then(() => {
    following.delete(instrument);
    const now = queries.refetchQueries({ queryKey: ["instrument", instrument] });
    going.set(instrument, now);
    return now;
  });
  following.set(instrument, next);
  return next;
}

/** Sends something after all that was said of an instrument before it. */
export function inLine<T>(instrument: number, send: () => Promise<T>): Promise<T> {
  const now = (lines.get(instrument) ?? Promise.resolve()).then(send, send);
  lines.set(instrument, now);
  return now;
}

/** Ends when the page has what was kept, so that nothing jumps back in between. */
async function sent(instrument: number, edit: Edit, send: () => Promise<unknown>): Promise<void> {
  setPending(instrument, [...pendingOf(instrument), edit]);
  try {
    await inLine(instrument, send);
    await fetched(instrument);
  } finally {
    setPending(
      instrument,
      pendingOf(instrument).filter((other) => other !== edit),
    );
  }
}

/** One gesture: kept at once, undone as one. Refused where somebody else said something else of the same meanwhile. */
export function change(instrument: number, label: string, wishes: Wish[]): Promise<void> {
  const kept = queries.getQueryData<InstrumentView>(["instrument", instrument]);
  const seen = kept && pendingOf(instrument).reduce(withEdit, kept);
  const body = {
    label,
    wishes: wishes.map((wish) => ({
      target:
        wish.take !== undefined
          ? { take: wish.take }
          : wish.longTake !== undefined
            ? { long_take: wish.longTake }
            : wish.region
              ? { region: wish.region }
              : wish.part
                ? { [wish.part[0]]: wish.part.slice(1) }
                : wish.effect
                  ? { effect: wish.effect }
                  : wish.send
                    ? { send: wish.send }
                    : wish.bus !== undefined
                      ? { bus: wish.bus }
                      : wish.page !== undefined
                        ? { page: wish.page }
                        : wish.control !== undefined
                          ? { part: wish.control }
                          : wish.preset !== undefined
                            ? { preset: wish.preset }
                            : wish.findingKind !== undefined
                              ? { finding_kind: wish.findingKind }
                              : wish.mark !== undefined
                                ? { mark: wish.mark }
                                : wish.strand !== undefined
                                  ? { strand: wish.strand }
                                  : ("instrument" as const),
      fact: wish.fact,
      after: wish.value === undefined ? ("automatic" as const) : { value: wish.value },
      made_from: seen && madeFrom(seen, wish),
    })),
  };
  return sent(instrument, { wishes }, async () =>
    answer(await api.POST("/api/instruments/{id}/changes", { params: { path: { id: instrument } }, body: body as never })),
  );
}

/** An act that the server makes an edit of: kept in its order, and seen when it is answered. */
export async function act(instrument: number, send: () => Promise<unknown>): Promise<void> {
  await inLine(instrument, send);
  await fetched(instrument);
}

/** Edits the plan: what differs is set, part by part, and what another page said of other parts meanwhile stays. */
export function changePlan(view: InstrumentView, label: string, to: Plan): Promise<void> {
  const body = { label, from: view.plan, to };
  return sent(view.id, { wishes: [], plan: to }, async () =>
    answer(await api.POST("/api/instruments/{id}/plan", { params: { path: { id: view.id } }, body })),
  );
}
