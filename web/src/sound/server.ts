// Instruments that live on Ladder's server.
import { answer, api } from "../api/client";
import { useView } from "../state/view";
import type { Home, Playable } from "./home";
import type { FromTake } from "./serverLoader";

async function programOf(id: number) {
  const { heardAs, heardEdition, dry } = useView.getState();
  const asked = new URLSearchParams({
    ...(heardAs && { as: heardAs }),
    ...(heardEdition && { edition: String(heardEdition.id) }),
    ...(dry && { dry: "true" }),
  });
  const response = await fetch(`/api/instruments/${id}/program?${asked.toString()}`);
  return response.ok ? response.arrayBuffer() : undefined;
}

async function bring(view: Playable) {
  const { heardAs, heardEdition, dry } = useView.getState();
  const bytes = await programOf(view.id);
  if (!bytes) return undefined;
  // An edition plays the takes that it was made from, whichever are chosen now.
  const edition = heardEdition && answer(await api.GET("/api/editions/{id}/program", { params: { path: { id: heardEdition.id } } }));
  // A newer one may have come first.
  const now = useView.getState();
  if (heardAs !== now.heardAs || heardEdition !== now.heardEdition || dry !== now.dry) return undefined;
  const { samples: all, regions } = edition ?? view.program;
  const starts = all.map(() => new Set<number>());
  for (const region of regions) starts[region.sample]?.add(region.start_frame);
  const samples = all.map((s, n): FromTake => ({
    id: s.id,
    source: s.source,
    frames: s.frames,
    channels: s.channels,
    first_channel: s.first_channel ?? 0,
    source_channels: s.source_channels,
    starts: [...starts[n]!],
  }));
  return { bytes, samples };
}

export const server: Home = {
  engine: "/engine.wasm",
  loader: () => new Worker(new URL("./serverLoader.ts", import.meta.url), { type: "module" }),
  programOf,
  bring,
  watch: (again) =>
    useView.subscribe(({ heardAs, heardEdition, dry }, before) => {
      if (heardAs !== before.heardAs || heardEdition !== before.heardEdition || dry !== before.dry) again();
    }),
};
