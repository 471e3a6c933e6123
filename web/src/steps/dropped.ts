// Files dropped on the map: one on a region takes its place, each on a key of its own from the key they were dropped on.
import { answer, api, type InstrumentView, type Schemas, type TakeView } from "../api/client";
import { cellId, sameCell } from "../model/cells";
import { keyName } from "../model/keys";
import { placedRegions } from "../model/regions";
import { heldStrand } from "../model/strands";
import { change } from "../state/edits";
import { useMap } from "../state/map";
import { audioAmong, send } from "../state/sending";
import { useView } from "../state/view";

type Place = Omit<Schemas["PlacedFile"], "file">;

/** Sends a file and gives it its place. */
async function takeIn(view: InstrumentView, file: File, place: Place): Promise<void> {
  useView.getState().say(`«${file.name}» is being sent…`);
  const { id } = await send(`/api/instruments/${view.id}/files?name=${encodeURIComponent(file.name)}`, file, () => undefined, {});
  const body = [{ files: [{ ...place, file: id }] }];
  answer(await api.POST("/api/instruments/{id}/files/take-in", { params: { path: { id: view.id } }, body }));
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
  const layer = pass?.layers.findIndex(({ id }) => id === cell.layer) ?? 0;
  await takeIn(view, file, { pass: cell.pass, key: cell.key, layer: Math.max(0, layer), round_robin: cell.round_robin });
  // One that was chosen before would go on sounding.
  const before = view.takes.filter((other) => sameCell(other.cell, cell));
  const wishes = before.map((other) => ({ take: other.id, fact: "chosen" as const, value: undefined }));
  if (before.length > 1) await change(view.id, "choose the dropped take", wishes);
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
  for (const [n, file] of audio.entries()) await takeIn(view, file, { pass: pass?.id, key: key + n, layer, round_robin: 0 });
  const last = key + audio.length - 1;
  const where = last > key ? `${keyName(key)} to ${keyName(last)}` : keyName(key);
  useView.getState().say(`${audio.length === 1 ? `«${audio[0]!.name}» has` : `${audio.length} files have`} ${where} for a root now.`);
}
