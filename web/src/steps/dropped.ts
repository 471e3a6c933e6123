// Files dropped on the map: one on a region takes its place, each on a key of its own from the key they were dropped on.
import { create } from "zustand";
import { answer, api, type InstrumentView, type Schemas, type TakeView } from "../api/client";
import { cellId, sameCell } from "../model/cells";
import { keyName } from "../model/keys";
import { placedRegions } from "../model/regions";
import { heldStrand } from "../model/strands";
import { change } from "../state/edits";
import { useMap } from "../state/map";
import { audioAmong, type Cancel, send } from "../state/sending";
import { useView } from "../state/view";

type Place = Omit<Schemas["PlacedFile"], "file">;

interface Going {
  /** The file that is on its way. */
  name: string;
  done: number;
  of: number;
  cancel: Cancel;
}

/** What is on its way. */
export const useDropped = create<{ going: Going | undefined }>(() => ({ going: undefined }));

/** What is on its way is broken off; what arrived is kept. */
export function stopDropped(): void {
  const { going } = useDropped.getState();
  if (!going) return;
  going.cancel.stop = true;
  going.cancel.request?.abort();
}

/** Sends files and gives them their places, one after another; how many arrived before it was broken off. */
async function takeIn(view: InstrumentView, files: { file: File; place: Place }[]): Promise<number> {
  if (useDropped.getState().going) throw new Error("Other files are on their way: drop these when they are there.");
  const cancel: Cancel = {};
  let done = 0;
  try {
    for (const { file, place } of files) {
      useDropped.setState({ going: { name: file.name, done, of: files.length, cancel } });
      const url = `/api/instruments/${view.id}/files?name=${encodeURIComponent(file.name)}`;
      const sent = await send(url, file, () => undefined, cancel).catch((error: unknown) => {
        if (cancel.stop) return undefined;
        throw error;
      });
      if (!sent) break;
      const body = [{ files: [{ ...place, file: sent.id }] }];
      answer(await api.POST("/api/instruments/{id}/files/take-in", { params: { path: { id: view.id } }, body }));
      done += 1;
      if (cancel.stop) break;
    }
  } finally {
    useDropped.setState({ going: undefined });
  }
  if (done < files.length)
    useView
      .getState()
      .say(done === 0 ? "Cancelled: nothing was taken in." : `Cancelled: ${done} of ${files.length} files are there and stay.`);
  return done;
}

function among(files: File[]): File[] {
  const audio = audioAmong(files);
  if (audio.length === 0) throw new Error("None of what was dropped is audio that can be read: WAV, AIFF, FLAC, Ogg or MP3.");
  return audio;
}

/** It becomes the newest take of the region's cell, and sounds: root and loop are found anew, all else stays. */
export async function inPlaceOf(view: InstrumentView, take: TakeView, files: File[]): Promise<void> {
  const [file, ...others] = among(files);
  if (!file) return;
  if (others.length > 0) throw new Error(`One file takes a region's place; ${others.length + 1} were dropped.`);
  const { cell } = take;
  const pass = view.plan.passes.find(({ id }) => id === cell.pass);
  const layer = Math.max(0, pass?.layers.findIndex(({ id }) => id === cell.layer) ?? 0);
  const before = view.takes.filter((other) => sameCell(other.cell, cell));
  // The one that sounds is the chosen one by name, so that Undo brings it back.
  const wishes = before.map((other) => ({ take: other.id, fact: "chosen" as const, value: other.id === take.id ? true : undefined }));
  await change(view.id, `hold on to the take of ${keyName(cell.key)}`, wishes);
  const place = { pass: cell.pass, key: cell.key, layer, round_robin: cell.round_robin };
  if ((await takeIn(view, [{ file, place }])) === 0) return;
  await change(view.id, `put «${file.name}» in its place`, [{ take: take.id, fact: "chosen", value: undefined }]);
  useView.getState().say(`«${file.name}» has taken its place on ${keyName(cell.key)}; the other take is kept.`);
}

/** Each has its root on a key of its own, from that key upward: in the pass of the strand that is held, and in the layer of the cell on the bench. */
export async function onKeys(view: InstrumentView, key: number, files: File[]): Promise<void> {
  const audio = among(files);
  if (key + audio.length > 128) throw new Error(`From ${keyName(key)} upward there are not keys enough for ${audio.length} files.`);
  const { focus, pass: shown } = useView.getState();
  const strand = heldStrand(view, useMap.getState().strand, shown);
  const of = placedRegions(view).find(({ region, take }) => region.key.strand === strand && take)?.take;
  const pass = view.plan.passes.find(({ id }) => id === of?.cell.pass) ?? view.plan.passes[shown];
  const onBench = view.takes.find(({ cell }) => cellId(cell) === focus && cell.pass === pass?.id);
  const layer = Math.max(0, pass?.layers.findIndex(({ id }) => id === onBench?.cell.layer) ?? 0);
  const placed = audio.map((file, n) => ({ file, place: { pass: pass?.id, key: key + n, layer, round_robin: 0 } }));
  if ((await takeIn(view, placed)) < audio.length) return;
  const last = key + audio.length - 1;
  const where = last > key ? `${keyName(key)} to ${keyName(last)}` : keyName(key);
  useView.getState().say(`${audio.length === 1 ? `«${audio[0]!.name}» has` : `${audio.length} files have`} ${where} for a root now.`);
}
