// The server's API, typed by its own description.
import createClient from "openapi-fetch";
import { queries } from "../state/client";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type InstrumentView = Schemas["InstrumentView"];
export type TakeView = Schemas["TakeView"];
export type Plan = Schemas["Plan"];
export type Cell = Schemas["Cell"];
export type Progress = Schemas["Progress"];
export type Card = Schemas["Card"];
export type JobView = Schemas["JobView"];
export type Fact = Schemas["Fact"];
export type TakeLoop = Schemas["TakeLoop"];
export type Treatment = Schemas["Treatment"];

/** What did not arrive at all is said in words. */
async function ask(request: Request): Promise<Response> {
  try {
    return await fetch(request);
  } catch (error) {
    if (error instanceof DOMException && error.name === "AbortError") throw error;
    throw new Error("Ladder does not answer just now. What was kept is safe; try again in a moment.");
  }
}

export const api = createClient<paths>({ baseUrl: "/", fetch: ask });

/** The answer, or an error with the server's sentence. */
export function answer<T>(outcome: { data?: T; error?: unknown; response: Response }): T {
  if (outcome.error !== undefined || !outcome.response.ok) {
    const problem = outcome.error as { detail?: string } | undefined;
    throw new Error(problem?.detail ?? "Ladder's server did not answer as expected; nothing was changed.");
  }
  return outcome.data as T;
}

export interface Wish {
  take?: number | undefined;
  longTake?: number;
  /** A region, by its strand and its number. */
  region?: [strand: number, number: number];
  fact: Fact;
  /** `undefined` goes back to the automatic value. */
  value: unknown;
}

/** Edits the plan: what differs is set, part by part, and what another page said of other parts meanwhile stays. */
export async function changePlan(view: InstrumentView, label: string, to: Plan): Promise<void> {
  const body = { label, from: view.plan, to };
  answer(await api.POST("/api/instruments/{id}/plan", { params: { path: { id: view.id } }, body }));
  await queries.refetchQueries({ queryKey: ["instrument", view.id] });
}

/** One gesture: kept at once, undone as one. Ends when the page has what was kept, so that nothing jumps back in between. */
export async function change(instrument: number, label: string, wishes: Wish[]): Promise<void> {
  const body = {
    label,
    wishes: wishes.map(({ take, longTake, region, fact, value }) => ({
      target:
        take !== undefined ? { take } : longTake !== undefined ? { long_take: longTake } : region ? { region } : ("instrument" as const),
      fact,
      after: value === undefined ? ("automatic" as const) : { value },
    })),
  };
  answer(await api.POST("/api/instruments/{id}/changes", { params: { path: { id: instrument } }, body: body as never }));
  await queries.refetchQueries({ queryKey: ["instrument", instrument] });
}
