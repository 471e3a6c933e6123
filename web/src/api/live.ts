// What the server tells: one WebSocket, opened again after a break, catching up from the last event heard.
import type { QueryClient } from "@tanstack/react-query";
import type { Progress, Schemas } from "./client";
import { useLive } from "../state/live";

type Message = Schemas["Message"];

export function follow(queries: QueryClient): void {
  let last: number | undefined;
  let waiting: ReturnType<typeof setTimeout> | undefined;
  const stale = new Set<string>();
  // A run at full speed tells of many takes a second: what is stale is fetched together.
  const refresh = (key: unknown[]) => {
    stale.add(JSON.stringify(key));
    waiting ??= setTimeout(() => {
      waiting = undefined;
      const keys = [...stale];
      stale.clear();
      for (const text of keys) void queries.invalidateQueries({ queryKey: JSON.parse(text) as unknown[] });
    }, 150);
  };
  const open = () => {
    const after = last === undefined ? "" : `?after=${last}`;
    const socket = new WebSocket(`ws://${location.host}/api/events${after}`);
    socket.onopen = () => {
      useLive.getState().setConnected(true);
      if (last === undefined) void queries.invalidateQueries();
    };
    socket.onmessage = (event: MessageEvent<string>) => {
      const message = JSON.parse(event.data) as Message;
      if (message.type === "progress") {
        useLive.getState().setProgress(message.instrument, message.progress as Progress);
        return;
      }
      last = Math.max(last ?? 0, message.id);
      refresh(["shelf"]);
      refresh(["instrument", message.instrument]);
      if (message.kind === "measured") refresh(["thumbnails", message.instrument]);
      if (message.kind === "job") refresh(["exports", message.instrument]);
    };
    socket.onclose = () => {
      useLive.getState().setConnected(false);
      setTimeout(open, 800);
    };
  };
  open();
}
