// Begins a recording and tells it what to do; where the rig is this computer's devices, its line is opened first.
import { answer, api, type InstrumentView, type Schemas } from "../api/client";
import { Line } from "../devices/line";
import { useChoices } from "../devices/devices";

export type Order = Schemas["Order"];
export type RunSettings = Partial<Schemas["RunSettings"]>;

export const PAGE_RIG = "page";
let line: Line | undefined;

/** With real devices the input is opened before the server is told, so that a refusal costs nothing. */
async function withLine(view: InstrumentView, real: boolean, begin: (channels: number | undefined) => Promise<unknown>): Promise<void> {
  line?.close();
  line = undefined;
  // Several mics at once are as many channels of one input.
  const mics = view.plan.mics?.length ?? 0;
  const channels = mics > 1 ? mics * view.plan.channels : useChoices.getState().channels;
  const opened = real ? await Line.open(view.id, view.plan.rate_hz, channels) : undefined;
  try {
    await begin(opened ? channels : undefined);
  } catch (error) {
    opened?.close();
    throw error;
  }
  opened?.begin();
  line = opened;
}

export async function beginRun(view: InstrumentView, settings: RunSettings): Promise<void> {
  await withLine(view, view.plan.source.rig === PAGE_RIG, async (channels) =>
    answer(await api.POST("/api/instruments/{id}/run", { params: { path: { id: view.id } }, body: { ...settings, channels } as never })),
  );
}

/** Plays takes through an outside box, the simulated one unless `real`. */
export async function beginThrough(view: InstrumentView, takes: number[], real: boolean): Promise<void> {
  await withLine(view, real, async (channels) =>
    answer(await api.POST("/api/instruments/{id}/through", { params: { path: { id: view.id } }, body: { takes, channels } })),
  );
}

/** Gives the input back, whatever became of the recording. */
export function letGo(): void {
  line?.close();
  line = undefined;
}

export async function tell(id: number, order: Order): Promise<void> {
  // Where the devices are this page's, what is said goes the way the sound goes, and in its order.
  if (line?.open && line.instrument === id) return line.order(order);
  answer(await api.POST("/api/instruments/{id}/run/{order}", { params: { path: { id, order } } }));
}
