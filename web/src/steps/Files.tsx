// Files that exist already: dropped, read by their names, checked by what is heard, taken in.
import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { answer, api, change, type InstrumentView, type Schemas } from "../api/client";
import { keyName, parseKey } from "../model/keys";
import { centsShort } from "../model/units";
import { Choice } from "../parts/Choice";
import { sayError, useView } from "../state/view";
import { type Kind, KINDS } from "./PlanForm";
import { send } from "./LongTakes";

type Row = Schemas["FileRow"];
interface Mended {
  key?: number;
  layer?: number;
  round_robin?: number;
  key_up?: boolean;
}

async function entriesOf(items: DataTransferItemList): Promise<File[]> {
  const files: File[] = [];
  const walk = async (entry: FileSystemEntry, path: string): Promise<void> => {
    if (entry.isFile) {
      const file = await new Promise<File>((done, failed) => (entry as FileSystemFileEntry).file(done, failed));
      files.push(new File([file], path + file.name, { type: file.type }));
    } else {
      const reader = (entry as FileSystemDirectoryEntry).createReader();
      for (;;) {
        const some = await new Promise<FileSystemEntry[]>((done, failed) => reader.readEntries(done, failed));
        if (some.length === 0) return;
        for (const child of some) await walk(child, `${path}${entry.name}/`);
      }
    }
  };
  const entries = [...items].map((item) => item.webkitGetAsEntry()).filter((entry) => entry !== null);
  for (const entry of entries) await walk(entry, "");
  return files;
}

const AUDIO = /\.(wav|wave|aif|aiff|aifc|flac|ogg|oga|mp3)$/i;

export function Files({ view }: { view: InstrumentView }) {
  const [german, setGerman] = useState(false);
  const [shift, setShift] = useState<number | undefined>();
  const [mended, setMended] = useState<Record<number, Mended>>({});
  const [sending, setSending] = useState<{ done: number; of: number; cancel: { stop: boolean; request?: XMLHttpRequest } } | undefined>();
  const [apart, setApart] = useState(false);
  const [kinds, setKinds] = useState<Record<string, Kind>>({});
  const [refused, setRefused] = useState<string[]>([]);
  const [over, setOver] = useState(false);
  const say = useView((state) => state.say);
  const navigate = useNavigate();
  const list = useQuery({
    queryKey: ["instrument", view.id, "files", german, shift],
    queryFn: async () => answer(await api.GET("/api/instruments/{id}/files", { params: { path: { id: view.id }, query: { german, shift_keys: shift } } })),
    placeholderData: (previous) => previous,
  });
  const rows = list.data?.files ?? [];
  const layers = list.data?.layers ?? [];
  const stems = list.data?.stems ?? [];

  const bring = async (files: File[]) => {
    const audio = files.filter((file) => AUDIO.test(file.name)).sort((a, b) => a.name.localeCompare(b.name));
    const others = files.length - audio.length;
    setRefused(others > 0 ? [`${others} other ${others === 1 ? "file was" : "files were"} passed over.`] : []);
    const cancel = { stop: false } as { stop: boolean; request?: XMLHttpRequest };
    for (const [n, file] of audio.entries()) {
      if (cancel.stop) break;
      setSending({ done: n, of: audio.length, cancel });
      // The folder belongs to the name: dropped folders carry it in the name, chosen ones beside it.
      const name = file.webkitRelativePath || file.name;
      await send(`/api/instruments/${view.id}/files?name=${encodeURIComponent(name)}`, file, () => undefined, cancel).catch((error: unknown) => setRefused((all) => [...all, error instanceof Error ? error.message : String(error)]));
    }
    setSending(undefined);
  };
  const placeOf = (row: Row) => {
    const m = mended[row.id] ?? {};
    return { file: row.id, key: m.key ?? row.key ?? undefined, layer: m.layer ?? row.layer, round_robin: m.round_robin ?? row.round_robin, key_up: m.key_up ?? row.guess.key_up, mic: row.guess.mic };
  };
  const mend = (id: number, what: Mended) => setMended((all) => ({ ...all, [id]: { ...all[id], ...what } }));
  const ready = rows.map(placeOf).filter((place) => place.key !== undefined);
  // A dropped folder is the instrument: its name is offered, and taken where there is none yet.
  const folders = new Set(rows.map((row) => row.name.split(/[/\\]/).slice(0, -1)[0]));
  const folder = folders.size === 1 ? [...folders][0] : undefined;
  const unnamed = view.name === "This computer's devices" || view.name === "New instrument";
  const takeIn = async (each: boolean) => {
    const groups = each ? stems.map((stem) => ({ name: stem.name, kind: kinds[stem.name] ?? stem.kind, of: rows.filter((row) => row.guess.stem === stem.name) })) : [{ name: undefined, kind: undefined, of: rows }];
    const body = groups.map((group) => ({ name: group.name, kind: group.kind, layers, files: group.of.map(placeOf).filter((place) => place.key !== undefined) }));
    const made = answer(await api.POST("/api/instruments/{id}/files/take-in", { params: { path: { id: view.id } }, body: body as never }));
    if (!each && folder && unnamed) await change(view.id, "name it after its folder", [{ fact: "name", value: folder.slice(0, 120) }]);
    setMended({});
    say(each ? `${made.length} instruments were made.` : `${ready.length} files were taken in.`);
    if (each) await navigate({ to: "/" });
  };
  return (
    <>
      <div
        className={`card flex flex-col items-center gap-2 border-dashed p-5 text-center ${over ? "border-act bg-act-soft" : ""}`}
        data-part="drop"
        onDragOver={(event) => { event.preventDefault(); setOver(true); }}
        onDragLeave={() => setOver(false)}
        onDrop={(event) => {
          event.preventDefault();
          setOver(false);
          void entriesOf(event.dataTransfer.items).then(bring).catch(sayError);
        }}
      >
        <p>Drop a folder or files here: note, strength and turn are read from their names, and checked against what is heard.</p>
        <div className="flex gap-2">
          <label className="button act cursor-pointer">Choose files…<input type="file" multiple accept="audio/*,.wav,.aif,.aiff,.flac,.ogg,.mp3" className="sr-only" data-part="files" onChange={(event) => void bring([...(event.target.files ?? [])]).catch(sayError)} /></label>
          <label className="button cursor-pointer">Choose a folder…<input type="file" multiple ref={(input) => input?.setAttribute("webkitdirectory", "")} className="sr-only" onChange={(event) => void bring([...(event.target.files ?? [])]).catch(sayError)} /></label>
        </div>
        {sending && <div className="flex w-full items-center gap-3"><span className="num">{sending.done} of {sending.of}</span><progress className="h-2 flex-1" value={sending.done} max={sending.of} /><button className="button !py-0.5" onClick={() => { sending.cancel.stop = true; sending.cancel.request?.abort(); }}>Cancel</button></div>}
        {refused.length > 0 && <ul role="alert" className="w-full text-left text-warn">{refused.slice(0, 5).map((line, n) => <li key={n}>{line}</li>)}{refused.length > 5 && <li>…and {refused.length - 5} more.</li>}</ul>}
      </div>
      {rows.length > 0 && (
        <section className="card overflow-hidden" aria-label="Files">
          <div className="flex flex-wrap items-end gap-3 p-3">
            <div className="w-48"><Choice label="Middle C (key 60) is written" value={shift === undefined ? "auto" : String(shift)} onChange={(v) => setShift(v === "auto" ? undefined : Number(v))} options={[{ value: "auto", name: "as heard" }, { value: "0", name: "C4" }, { value: "12", name: "C3" }, { value: "-12", name: "C5" }]} /></div>
            <button className={`button ${german ? "on" : ""}`} aria-pressed={german} title="H is B, B is B♭, Cis and Des are read" onClick={() => setGerman(!german)}>German names</button>
            <p className="min-w-0 flex-1 text-ink3" data-part="octave">{list.data?.octave_says}</p>
          </div>
          <div className="max-h-[300px] overflow-auto">
            <table className="w-full text-[12px]">
              <thead className="sticky top-0 bg-raised text-left text-ink3"><tr><th className="px-3 font-normal">file</th><th className="font-normal">rung</th><th className="font-normal">layer</th><th className="font-normal">turn</th><th className="font-normal">key up</th><th className="font-normal">heard</th></tr></thead>
              <tbody>
                {rows.map((row) => {
                  const place = placeOf(row);
                  return (
                    <tr key={row.id} className="border-t border-line2 align-top" data-file={row.name}>
                      <td className="max-w-[190px] px-3 py-1"><span className="block truncate" title={row.name}>{row.name}</span>{row.says.map((line) => <span key={line} className="block text-warn">{line}</span>)}</td>
                      <td className="py-1"><input aria-label={`Rung of ${row.name}`} className={`num w-14 rounded border bg-raised px-1 ${mended[row.id]?.key !== undefined ? "border-act font-semibold" : place.key === undefined ? "border-mark" : "border-line"}`} key={`${place.key}`} defaultValue={place.key === undefined ? "" : keyName(place.key)} onBlur={(event) => { const key = parseKey(event.target.value); if (key !== undefined && key !== place.key) mend(row.id, { key }); }} onKeyDown={(event) => { if (event.key === "Enter") event.currentTarget.blur(); event.stopPropagation(); }} /></td>
                      <td className="py-1"><select aria-label={`Layer of ${row.name}`} className="rounded border border-line bg-raised" value={place.layer} onChange={(event) => mend(row.id, { layer: Number(event.target.value) })}>{(layers.length > 0 ? layers : ["all"]).map((name, n) => <option key={name} value={n}>{name}</option>)}</select></td>
                      <td className="py-1"><input aria-label={`Turn of ${row.name}`} className="num w-10 rounded border border-line bg-raised px-1" key={`${place.round_robin}`} defaultValue={place.round_robin + 1} onBlur={(event) => { const turn = Number(event.target.value) - 1; if (Number.isInteger(turn) && turn >= 0 && turn < 64 && turn !== place.round_robin) mend(row.id, { round_robin: turn }); }} onKeyDown={(event) => event.stopPropagation()} /></td>
                      <td className="py-1"><input type="checkbox" aria-label={`Key up of ${row.name}`} checked={place.key_up} onChange={(event) => mend(row.id, { key_up: event.target.checked })} /></td>
                      <td className="num py-1 pr-3">{row.heard.key == null ? "–" : `${keyName(row.heard.key)} ${centsShort(row.heard.cents)}`}{row.heard.inside && <span className="block text-ink3">root{row.heard.inside.loop ? " and loop" : ""} inside</span>}</td>
                    </tr>
                  );
                })}
              </tbody>
            </table>
          </div>
          <div className="flex flex-wrap gap-2 border-t border-line2 p-3">
            <button className="button act" disabled={ready.length === 0} onClick={() => void takeIn(false).catch(sayError)}>Take {ready.length} files in</button>
            {stems.length > 1 && <button className="button" aria-expanded={apart} onClick={() => setApart(!apart)}>One instrument from each of {stems.length} names…</button>}
            {rows.length > ready.length && <span className="self-center text-warn">{rows.length - ready.length} without a rung stay here.</span>}
            <div className="grow" />
            <button className="button" onClick={() => void api.POST("/api/instruments/{id}/files/forget", { params: { path: { id: view.id } }, body: rows.map((row) => row.id) }).then(answer).catch(sayError)}>Put them all aside</button>
          </div>
          {apart && stems.length > 1 && (
            <div className="border-t border-line2 p-3" data-part="apart">
              <div className="grid max-h-[180px] grid-cols-2 gap-x-4 gap-y-2 overflow-auto">
                {stems.map((stem) => (
                  <div key={stem.name} className="flex items-center gap-2">
                    <span className="min-w-0 flex-1 truncate" title={stem.name}>{stem.name} <span className="num text-ink3">{stem.files}</span></span>
                    <div className="w-36"><Choice<Kind> quiet label={`What ${stem.name} is`} value={kinds[stem.name] ?? stem.kind} onChange={(kind) => setKinds((all) => ({ ...all, [stem.name]: kind }))} options={KINDS.map((k) => ({ value: k.value, name: k.name }))} /></div>
                  </div>
                ))}
              </div>
              <button className="button act mt-3" onClick={() => void takeIn(true).catch(sayError)}>Make {stems.length} instruments</button>
            </div>
          )}
        </section>
      )}
    </>
  );
}
