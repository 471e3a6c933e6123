// What the server tells: one WebSocket, opened again after a break, catching up from the last event heard.
import type { QueryClient } from "@tanstack/react-query";
import type { JobView, Schemas } from "./client";
import { useLive } from "../state/live";

type Message = Schemas["Message"];

/** The address of a line to the server, as safe as the page's own. */
export const lineUrl = (path: string) => `${location.protocol === "https:" ? "wss" : "ws"}://${location.host}${path}`;

/** What somebody did is shown at once; takes that come in, many a second, no more often than this. */
const SOON_MS = 150;
const BUSY_MS = 2_000;
const AGAIN_AFTER_MS = 800;
const FIRST_AFTER_MS = 50;

/** One thing that the page has, fetched anew when it is told that it is stale: never twice at once, so that a slow answer arrives, and an answer
 * that was under way when something changed is followed by another. */
class Stale {
  private due = Infinity;
  private timer: ReturnType<typeof setTimeout> | undefined;
  private fetching = false;
  private began = -Infinity;
  constructor(
    private readonly queries: QueryClient,
    private readonly queryKey: unknown[],
  ) {}

  tell(atMost: number): void {
    const due = Math.max(performance.now(), this.began + atMost);
    if (due >= this.due) return;
    this.due = due;
    if (!this.fetching) this.wait();
  }

  private wait(): void {
    clearTimeout(this.timer);
    if (this.due < Infinity) this.timer = setTimeout(() => void this.fetch(), Math.max(0, this.due - performance.now()));
  }

  private async fetch(): Promise<void> {
    this.fetching = true;
    // An answer that was asked for before is waited for, not thrown away.
    while (this.queries.isFetching({ queryKey: this.queryKey }) > 0) await new Promise((go) => setTimeout(go, 30));
    this.due = Infinity;
    this.began = performance.now();
    await this.queries.invalidateQueries({ queryKey: this.queryKey }, { cancelRefetch: false });
    this.fetching = false;
    this.wait();
  }
}

let lookingAt: number | undefined;
let openAgain: (() => void) | undefined;

/** The instrument whose jobs and recordings this page wants to hear of. */
export function lookAt(instrument: number | undefined): void {
  if (lookingAt === instrument) return;
  lookingAt = instrument;
  openAgain?.();
}

/** Events that follow from what somebody did, and are few. */
const DEEDS = ["changed", "instrument", "run", "long_take", "file", "job"];

export function follow(queries: QueryClient): void {
  let last: number | undefined;
  const all = new Map<string, Stale>();
  const refresh = (queryKey: unknown[], atMost: number) => {
    const name = JSON.stringify(queryKey);
    const stale = all.get(name) ?? new Stale(queries, queryKey);
    all.set(name, stale);
    stale.tell(atMost);
  };
  const hear = (message: Message) => {
    if (message.type === "progress") return useLive.getState().setProgress(message.instrument, message.progress ?? undefined);
    if (message.type === "job") {
      useLive.getState().hearJob(message.job.id, message.job.share);
      return patchJob(queries, message.instrument, message.job);
    }
    last = Math.max(last ?? 0, message.id);
    if (message.kind === "kept") {
      // Limits of all instruments, and how loud the shelf is meant to be: what is found follows from them.
      if (lookingAt !== undefined) refresh(["exports", lookingAt, "findings"], SOON_MS);
      return refresh(["kept"], SOON_MS);
    }
    const atMost = DEEDS.includes(message.kind) ? SOON_MS : BUSY_MS;
    refresh(["shelf"], BUSY_MS);
    if (message.kind === "job") {
      refresh(["exports", message.instrument], SOON_MS);
      // What could not be measured stands in the view.
      refresh(["instrument", message.instrument], BUSY_MS);
      return;
    }
    refresh(["instrument", message.instrument], atMost);
    refresh(["exports", message.instrument, "findings"], atMost);
    if (message.kind === "measured") refresh(["thumbnails", message.instrument], BUSY_MS);
  };
  const open = () => {
    const asked = new URLSearchParams();
    if (last !== undefined) asked.set("after", String(last));
    if (lookingAt !== undefined) asked.set("instrument", String(lookingAt));
    const socket = new WebSocket(lineUrl(`/api/events?${asked.toString()}`));
    let looksElsewhere = false;
    openAgain = () => {
      looksElsewhere = true;
      socket.close();
    };
    socket.onopen = () => {
      const was = useLive.getState().connected;
      useLive.getState().setConnected(true);
      // What passed by meanwhile is not told again: where recordings stand is asked for.
      useLive.getState().forgetProgress();
      if (last === undefined || !was) void queries.invalidateQueries();
      else if (lookingAt !== undefined) refresh(["instrument", lookingAt], SOON_MS);
    };
    socket.onmessage = (event: MessageEvent<string>) => hear(JSON.parse(event.data) as Message);
    socket.onclose = () => {
      if (!looksElsewhere) useLive.getState().setConnected(false);
      setTimeout(open, looksElsewhere ? 0 : AGAIN_AFTER_MS);
    };
  };
  // By then the page knows what it looks at.
  setTimeout(open, FIRST_AFTER_MS);
}

/** How far a job is, put where it is shown. */
function patchJob(queries: QueryClient, instrument: number, job: JobView): void {
  queries.setQueriesData({ queryKey: ["exports", instrument] }, (jobs: JobView[] | undefined) =>
    Array.isArray(jobs) ? jobs.map((known) => (known.id === job.id && ["waiting", "running"].includes(known.state) ? job : known)) : jobs,
  );
}
