// What is in files that others made, instrument by instrument: chosen, and taken in.
import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { useState } from "react";
import { api } from "../api/client";
import { keyName } from "../model/keys";
import { BackToShelf } from "../parts/BackToShelf";
import { broughtQuery, shareQuery } from "../state/queries";
import { nameOf, type Offered, type Taking, useTaking } from "../state/taking";
import { sayError, useView } from "../state/view";

function lengthOf(seconds: number): string {
  if (seconds < 90) return `${seconds < 10 ? seconds.toFixed(1) : Math.round(seconds)} s`;
  return `${Math.round(seconds / 60)} min`;
}

export function BroughtSet() {
  const params: { set?: string } = useParams({ strict: false });
  const set = params.set ?? "";
  const query = useQuery(broughtQuery(set));
  const navigate = useNavigate();
  const [chosen, setChosen] = useState<ReadonlySet<string> | undefined>();
  const [words, setWords] = useState("");
  const { taking, there, takeIn, bringAudio, cancel } = useTaking(set);
  const found = query.data?.found;
  const all = found?.instruments ?? [];
  const good = all.filter((of) => of.refused == null);
  // What stands alone is wanted.
  const wanted = chosen ?? new Set(good.length === 1 ? good.map(nameOf) : []);
  const shown = all.filter((of) => `${of.name} ${of.file}`.toLowerCase().includes(words.trim().toLowerCase()));
  const files = new Set(all.map((of) => of.file)).size;
  const toTake = good.filter((of) => wanted.has(nameOf(of)) && there[nameOf(of)] === undefined);

  const choose = (which: Offered[], on: boolean) => {
    const next = new Set(wanted);
    for (const of of which) if (of.refused == null) next[on ? "add" : "delete"](nameOf(of));
    setChosen(next);
  };
  const putAside = async () => {
    await api.DELETE("/api/brought/{set}", { params: { path: { set } } });
    await navigate({ to: "/" });
  };
  const open = (id: number, step: string) => navigate({ to: "/instruments/$id/$step", params: { id: String(id), step } });
  const takeChosen = async () => {
    const { made, cancelled } = await takeIn(toTake);
    const { say } = useView.getState();
    if (cancelled) {
      const some = `${made.length} of ${toTake.length} are on the shelf and stay.`;
      return say(`Cancelled: ${made.length === 0 ? "nothing was taken in." : some}`);
    }
    if (made.length === 1) return open(made[0]!, "map");
    say(`${made.length} instruments are on the shelf.`);
    await navigate({ to: "/" });
  };
  const takeAudio = async (audio: string[]) => {
    const { id, aside } = await bringAudio(audio);
    if (aside.length > 0) sayError(new Error(aside.slice(0, 3).join(" ")));
    return open(id, "record");
  };

  return (
    <div className="flex h-full flex-col">
      <BackToShelf />
      <main className="min-h-0 flex-1 overflow-y-auto p-6" data-part="brought">
        <h1 className="mb-1 text-[17px] font-semibold">What is in these files</h1>
        {query.isPending && <p className="text-ink3">Looking through them…</p>}
        {query.isError && (
          <p role="alert" className="text-mark">
            {query.error.message}
          </p>
        )}
        {found && all.length === 0 && found.audio.length === 0 && (
          <p className="text-ink2">Neither an SFZ nor a SoundFont nor a recording that can be read is among them.</p>
        )}
        {found && all.length === 0 && found.audio.length > 0 && (
          <div className="card max-w-lg p-4">
            <p className="mb-3">
              {found.audio.length === 1 ? "One recording" : `${found.audio.length} recordings`}, and no instrument that says where they lie.
              They become one by their names and their sound.
            </p>
            <button className="button act" disabled={taking !== undefined} onClick={() => void takeAudio(found.audio).catch(sayError)}>
              Make an instrument of them
            </button>
          </div>
        )}
        {all.length > 0 && (
          <>
            <p className="mb-3 max-w-2xl text-ink2">
              {good.length === 1 ? "One instrument" : `${good.length} instruments`}
              {all.length > good.length && `, and ${all.length - good.length} that cannot be taken in`}. Each that is chosen comes onto the
              shelf with its recordings, its regions and how it plays; the file itself is kept as it is.
            </p>
            <div className="mb-2 flex items-end gap-3">
              {all.length > 8 && (
                <label className="w-56">
                  <span className="field-label">Words</span>
                  <input className="written" value={words} onChange={(event) => setWords(event.target.value)} />
                </label>
              )}
              {good.length > 1 && (
                <>
                  <button className="button" onClick={() => choose(shown, true)}>
                    Choose all{words.trim() ? " of these" : ""}
                  </button>
                  <button className="button" disabled={wanted.size === 0} onClick={() => setChosen(new Set())}>
                    Choose none
                  </button>
                </>
              )}
            </div>
            <table className="card w-full max-w-5xl text-[12px]">
              <thead className="text-left text-ink3">
                <tr>
                  <th className="w-8 p-2" />
                  <th className="p-2 font-normal">name</th>
                  {all.some((of) => of.bank != null) && (
                    <th className="p-2 font-normal" title="Both from 0">
                      bank, program
                    </th>
                  )}
                  {files > 1 && <th className="p-2 font-normal">file</th>}
                  <th className="p-2 font-normal">keys</th>
                  <th className="p-2 text-right font-normal">regions</th>
                  <th className="p-2 text-right font-normal">recordings</th>
                  <th className="p-2 text-right font-normal">length</th>
                  <th className="p-2 font-normal">remarks</th>
                </tr>
              </thead>
              <tbody>
                {shown.map((of) => (
                  <Row
                    key={nameOf(of)}
                    of={of}
                    withProgram={all.some((other) => other.bank != null)}
                    withFile={files > 1}
                    chosen={wanted.has(nameOf(of))}
                    onChoose={(on) => choose([of], on)}
                    there={there[nameOf(of)]}
                  />
                ))}
              </tbody>
            </table>
          </>
        )}
      </main>
      <footer className="flex items-center gap-3 border-t border-line bg-sheet px-6 py-2">
        {taking ? <TakingNow set={set} taking={taking} onCancel={cancel} /> : <div className="grow" />}
        <button className="button" disabled={taking !== undefined} onClick={() => void putAside().catch(sayError)}>
          Put these files aside
        </button>
        {good.length > 0 && (
          <button
            className="button act"
            disabled={toTake.length === 0 || taking !== undefined}
            onClick={() => void takeChosen().catch(sayError)}
          >
            {toTake.length > 1 ? `Take ${toTake.length} instruments in` : "Take it in"}
          </button>
        )}
      </footer>
    </div>
  );
}

function Row({
  of,
  withProgram,
  withFile,
  chosen,
  onChoose,
  there,
}: {
  of: Offered;
  withProgram: boolean;
  withFile: boolean;
  chosen: boolean;
  onChoose: (on: boolean) => void;
  there: number | undefined;
}) {
  const name = of.name || of.file;
  return (
    <tr className={`border-t border-line2 align-top ${chosen ? "bg-chosen" : ""}`} data-part="offered">
      <td className="p-2">
        <input
          type="checkbox"
          aria-label={name}
          checked={chosen}
          disabled={of.refused != null || there !== undefined}
          onChange={(event) => onChoose(event.target.checked)}
        />
      </td>
      <td className="p-2 font-semibold">
        {there === undefined ? (
          name
        ) : (
          <Link className="underline" to="/instruments/$id/$step" params={{ id: String(there), step: "map" }}>
            {name}
          </Link>
        )}
      </td>
      {withProgram && <td className="num p-2">{of.bank == null ? "" : `${of.bank}, ${of.program}`}</td>}
      {withFile && <td className="p-2 text-ink2">{of.file}</td>}
      {of.refused != null ? (
        <td className="p-2 text-warn" colSpan={5}>
          {of.refused}
        </td>
      ) : (
        <>
          <td className="num p-2">
            {keyName(of.low_key)}–{keyName(of.high_key)}
          </td>
          <td className="num p-2 text-right">{of.regions}</td>
          <td className="num p-2 text-right">{of.samples}</td>
          <td className="num p-2 text-right">{lengthOf(of.seconds)}</td>
          <td className="p-2 text-ink2">
            {there !== undefined && <span>On the shelf. </span>}
            {of.lost.slice(0, 4).map((line) => (
              <span key={line} className="block">
                {line}
              </span>
            ))}
            {of.lost.length > 4 && <span>…and {of.lost.length - 4} more.</span>}
          </td>
        </>
      )}
    </tr>
  );
}

function TakingNow({ set, taking, onCancel }: { set: string; taking: Taking; onCancel: () => void }) {
  const share = useQuery(shareQuery(set)).data?.share ?? 0;
  return (
    <div className="flex grow items-center gap-3" role="status">
      <span className="num">
        {taking.done + 1} of {taking.of}
      </span>
      <span className="max-w-72 truncate">{taking.name}</span>
      <progress className="h-2 flex-1" value={taking.done + Math.min(share, 0.99)} max={taking.of} aria-label="Taken in" />
      <button className="button !py-0.5" onClick={onCancel}>
        Cancel
      </button>
    </div>
  );
}
