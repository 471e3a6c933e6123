// The server's API, typed by its own description.
import createClient from "openapi-fetch";
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
