// What is wrong, worst first: each with what mends it, or why it is accepted.
import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { useEffect, useRef, useState } from "react";
import { answer, api, type InstrumentView, type Progress, type Schemas } from "../api/client";
import { cellId } from "../model/cells";
import { counts, type FindingView, type Findings, goneSince, heardOn, isLeft, toRecordAgain, unitOf, whereOf } from "../model/findings";
import { inWords, keyName } from "../model/keys";
import { counted } from "../model/units";
import { Field } from "../parts/Field";
import { Popup } from "../parts/Popup";
import { player } from "../sound/player";
import { queries } from "../state/client";
import { act, change } from "../state/edits";
import { usePending } from "../state/pending";
import { endLook, lookAtFinding, noteLook, useLooked } from "../state/looking";
import { findingsQuery, makingsQuery } from "../state/queries";
import { sayError, useView } from "../state/view";
import { Beside } from "./Beside";
import { Walk } from "./Walk";

type Doing = Schemas["Doing"];

/** So many are listed at once; more where they are asked for. */
const LISTED = 120;
const SHOWN = [
  ["findings", "Findings"],
  ["walk", "Walk"],
  ["beside", "Beside the source"],
] as const;
/** A finding is heard for so long. */
const HEARD_MS = 1_200;

export function CheckBench({ view, progress }: { view: InstrumentView; progress: Progress | undefined }) {
  const query = useQuery(findingsQuery(view.id));
  const [shows, setShows] = useState<Shows>("findings");
  const found = query.data;
  useEffect(() => {
    if (found) noteLook(view.id, found.findings);
  }, [view.id, found]);
  useEffect(() => () => endLook(view.id), [view.id]);
  if (query.isError && !found) {
    return (
      <div className="card p-4">
        <p className="text-mark">{query.error.message}</p>
        <button className="button mt-3" onClick={() => void query.refetch()}>
          Look again
        </button>
      </div>
    );
  }
  if (!found) return <p className="text-ink3">Listening…</p>;
  return (
    <>
      <Top view={view} found={found} shows={shows} setShows={setShows} />
      {shows === "walk" && <Walk view={view} found={found} />}
      {shows === "beside" && <Beside view={view} progress={progress} />}
      {shows === "findings" && <Listed view={view} found={found} />}
    </>
  );
}

/** What was found, worst first, and the chosen one. */
function Listed({ view, found }: { view: InstrumentView; found: Findings }) {
  const [listed, setListed] = useState(LISTED);
  const [step, setStep] = useState<string>();
  const chosen = useView((state) => state.finding);
  const all = found.findings;
  const shown = step ? all.filter((one) => one.step === step) : all;
  const one = all.find((finding) => finding.key === chosen);
  return (
    <>
      <Totals view={view} found={found} step={step} setStep={setStep} />
      <Gone id={view.id} found={found} />
      {shown.length > 0 && (
        <ul aria-label="Findings" className="card min-h-[190px] divide-y divide-line2 overflow-y-auto">
          {shown.slice(0, listed).map((finding) => (
            <Row key={finding.key} view={view} finding={finding} chosen={finding.key === chosen} />
          ))}
        </ul>
      )}
      {shown.length > listed && (
        <button className="button self-start" onClick={() => setListed(listed + 500)}>
          Show {Math.min(500, shown.length - listed)} more of {shown.length}
        </button>
      )}
      {one && <Chosen view={view} finding={one} all={all} limits={found.limits} />}
    </>
  );
}

type Shows = "findings" | "walk" | "beside";

interface TopProps {
  view: InstrumentView;
  found: Findings;
  shows: Shows;
  setShows: (shows: Shows) => void;
}

function Top({ view, found, shows, setShows }: TopProps) {
  const jobs = useQuery(makingsQuery(view.id)).data;
  const listening = jobs?.some((job) => job.kind === "listen" && (job.state === "running" || job.state === "waiting"));
  const [pending, begin] = usePending();
  const again = async () => {
    answer(await api.GET("/api/instruments/{id}/findings", { params: { path: { id: view.id }, query: { again: true } } }));
    await queries.invalidateQueries({ queryKey: ["exports", view.id] });
  };
  const said =
    found.to_hear === 0
      ? found.keys.length > 0
        ? "every key was played soft and hard, and every take was listened to"
        : "there is nothing to listen to yet"
      : listening
        ? `listening: ${found.to_hear} of ${found.heard + found.to_hear} still to be heard`
        : `${found.to_hear} of ${found.heard + found.to_hear} were not listened to`;
  return (
    <div className="flex items-center gap-2">
      <h2 className="text-[17px] font-semibold">Check</h2>
      <div className="flex gap-1" role="tablist" aria-label="Check">
        {SHOWN.map(([of, name]) => (
          <button
            key={of}
            role="tab"
            aria-selected={shows === of}
            className={`button ${shows === of ? "on" : ""}`}
            onClick={() => setShows(of)}
          >
            {name}
          </button>
        ))}
      </div>
      <p className="min-w-0 grow truncate text-[12px] text-ink3" data-part="listened" role="status">
        {said}
      </p>
      {found.to_hear > 0 && !listening && (
        <button className="button" disabled={pending} onClick={() => begin(again)}>
          Listen to them
        </button>
      )}
      <a
        className="button"
        href={`/api/instruments/${view.id}/report`}
        target="_blank"
        rel="noreferrer"
        title="On one page, to print or to keep"
      >
        Report
      </a>
      <Popup button="Limits" title="From where on something is found">
        {() => <LimitList view={view} found={found} />}
      </Popup>
    </div>
  );
}

function LimitList({ view, found }: { view: InstrumentView; found: Findings }) {
  const [forAll, setForAll] = useState(false);
  return (
    <>
      <div className="mb-2 flex gap-1" role="radiogroup" aria-label="Whose limits">
        {[false, true].map((all) => (
          <button
            key={String(all)}
            role="radio"
            aria-checked={forAll === all}
            className={`button ${forAll === all ? "on" : ""}`}
            onClick={() => setForAll(all)}
          >
            {all ? "Of all instruments" : "Of this instrument"}
          </button>
        ))}
      </div>
      <ul className="max-h-[60vh] space-y-2 overflow-y-auto pr-1">
        {found.limits.map((limit) => (
          <li key={limit.kind} className="flex items-center gap-2" title={limit.because}>
            <LimitField view={view} limit={limit} forAll={forAll} />
          </li>
        ))}
      </ul>
    </>
  );
}

function LimitField({ view, limit, forAll }: { view: InstrumentView; limit: Schemas["LimitView"]; forAll: boolean }) {
  const set = async (value: number | undefined) => {
    if (!forAll) {
      await change(view.id, `limit: ${limit.title.toLowerCase()}`, [{ findingKind: limit.number, fact: "finding_limit", value }]);
      return;
    }
    const path = { kind: "limit", name: limit.kind } as const;
    if (value === undefined) answer(await api.DELETE("/api/kept/{kind}/{name}", { params: { path } }));
    else answer(await api.PUT("/api/kept/{kind}/{name}", { params: { path }, body: value as never }));
    await queries.invalidateQueries({ queryKey: ["exports", view.id, "findings"] });
  };
  return (
    <Field
      label={limit.title}
      value={forAll ? limit.of_all : limit.limit}
      unit={unitOf(limit.unit)}
      byHand={forAll ? limit.of_all !== limit.by_itself : limit.limit !== limit.of_all}
      width="w-24"
      onSet={(value) => void set(value).catch(sayError)}
      onAutomatic={() => void set(undefined).catch(sayError)}
    />
  );
}

/** What was there at the last look, or since, and is no more. */
function Gone({ id, found }: { id: number; found: Findings }) {
  const seen = useLooked((all) => all[id]);
  const gone = goneSince(seen ?? [], found);
  if (gone.length === 0) return null;
  return (
    <details className="card px-3 py-2" data-part="gone">
      <summary className="cursor-pointer">{counted(gone.length, "finding")} of the last look no more</summary>
      <ul className="mt-1 text-[12.5px] text-ink2">
        {gone.map(({ key, what }) => (
          <li key={key}>{inWords(what)}</li>
        ))}
      </ul>
    </details>
  );
}

interface TotalsProps {
  view: InstrumentView;
  found: Findings;
  step: string | undefined;
  setStep: (step: string | undefined) => void;
}

function Totals({ view, found, step, setStep }: TotalsProps) {
  const { wrong, look, accepted } = counts(found.findings);
  const mendable = found.findings.filter((finding) => isLeft(finding) && finding.mend);
  const steps = Object.entries(found.left).filter(([, count]) => count > 0);
  const navigate = useNavigate();
  const again = toRecordAgain(found.findings);
  /** A board shows one pass: those of the first are chosen, the others are still listed here afterwards. */
  const recordAgain = async () => {
    const { setPass, choose, pass } = useView.getState();
    const first = view.plan.passes.findIndex(({ id }) => id === again[0]!.pass);
    if (first >= 0 && first !== pass) setPass(first);
    const ids = again.filter((cell) => cell.pass === again[0]!.pass).map((cell) => cellId(cell));
    choose(ids[0], new Set(ids));
    await navigate({ to: "/instruments/$id/$step", params: { id: String(view.id), step: "record" } });
  };
  return (
    <div className="card flex flex-wrap items-center gap-x-4 gap-y-2 p-3" data-part="totals">
      {wrong + look === 0 ? (
        <p className="grow font-medium text-act">
          {found.to_hear === 0 ? "Nothing is left to look at." : "Nothing so far."}
          {accepted > 0 && <span className="ml-2 font-normal text-ink2">{accepted} accepted</span>}
        </p>
      ) : (
        <p className="flex items-baseline gap-4">
          <span>
            <b className="mr-1 text-[20px] font-semibold text-mark">{wrong}</b>wrong
          </span>
          <span>
            <b className="mr-1 text-[20px] font-semibold text-warn">{look}</b>to look at
          </span>
          {accepted > 0 && (
            <span>
              <b className="mr-1 text-[20px] font-semibold">{accepted}</b>accepted
            </span>
          )}
        </p>
      )}
      <div className="flex grow flex-wrap gap-1">
        {steps.length > 1 &&
          steps.map(([name, count]) => (
            <button
              key={name}
              className={`button !px-2 !py-0.5 capitalize ${step === name ? "on" : ""}`}
              aria-pressed={step === name}
              title={`Only what is mended in ${name}`}
              onClick={() => setStep(step === name ? undefined : name)}
            >
              {name} {count}
            </button>
          ))}
      </div>
      {again.length > 0 && (
        <button className="button" title="Their cells are chosen in Record" onClick={() => void recordAgain().catch(sayError)}>
          Record {again.length} again
        </button>
      )}
      {mendable.length > 0 && (
        <Popup button={`Mend ${mendable.length} that can be`} title="What would change">
          {(close) => <Mending view={view} of={mendable} close={close} />}
        </Popup>
      )}
    </div>
  );
}

/** What mending several would change, kind by kind, and the act. */
function Mending({ view, of, close }: { view: InstrumentView; of: FindingView[]; close: () => void }) {
  const [pending, begin] = usePending();
  const kinds = new Map<string, FindingView[]>();
  for (const finding of of) {
    const name = `${finding.title}: ${finding.mend!.label.toLowerCase()}`;
    kinds.set(name, [...(kinds.get(name) ?? []), finding]);
  }
  return (
    <>
      <ul className="max-h-[50vh] list-disc overflow-y-auto pl-5">
        {[...kinds].map(([name, some]) => (
          <li key={name}>
            {name} <span className="text-ink3">({some.length})</span>
            {some.length <= 3 &&
              some.map((finding) => (
                <span key={finding.key} className="block text-[12px] text-ink2">
                  {whereOf(finding)}: {inWords(finding.mend!.changes)}
                </span>
              ))}
          </li>
        ))}
      </ul>
      <button
        className="button act mt-3"
        disabled={pending}
        onClick={() =>
          begin(async () => {
            await doing(view.id, of, "mend");
            close();
          })
        }
      >
        Mend {of.length === 1 ? "it" : `these ${of.length}`}
      </button>
    </>
  );
}

async function doing(id: number, of: FindingView[], what: Doing): Promise<void> {
  const body = { keys: of.map((finding) => finding.key), doing: what };
  await act(id, async () => answer(await api.POST("/api/instruments/{id}/findings", { params: { path: { id } }, body })));
  await queries.invalidateQueries({ queryKey: ["exports", id, "findings"] });
}

function Dot({ finding }: { finding: FindingView }) {
  const colour = finding.accepted != null ? "bg-line" : finding.wrong ? "bg-mark" : "bg-chosen-line";
  return (
    <span className={`size-2.5 shrink-0 rounded-full ${colour}`}>
      <span className="sr-only">{finding.accepted != null ? "accepted" : finding.wrong ? "wrong" : "to look at"}</span>
    </span>
  );
}

function Row({ view, finding, chosen }: { view: InstrumentView; finding: FindingView; chosen: boolean }) {
  const [pending, begin] = usePending();
  const row = useRef<HTMLLIElement>(null);
  useEffect(() => {
    if (chosen) row.current?.scrollIntoView({ block: "nearest" });
  }, [chosen]);
  return (
    <li
      ref={row}
      className={`flex items-center gap-3 px-3 py-2 ${chosen ? "bg-chosen" : ""}`}
      data-part="finding"
      data-kind={finding.kind}
      aria-current={chosen ? "true" : undefined}
    >
      <Dot finding={finding} />
      <button className="min-w-0 grow text-left" onClick={() => lookAtFinding(view, finding)}>
        <span className="block truncate">
          <b className="font-semibold">{finding.title}</b> <span className="font-mono text-[12px]">{whereOf(finding)}</span>
        </span>
        <span className="block text-[12px] text-ink2">{finding.accepted ? `Accepted: ${finding.accepted}` : inWords(finding.says)}</span>
      </button>
      {finding.accepted != null ? (
        <button className="button" disabled={pending} onClick={() => begin(() => doing(view.id, [finding], "look_again"))}>
          Look again
        </button>
      ) : (
        <>
          {finding.mend && (
            <button
              className="button"
              disabled={pending}
              title={inWords(finding.mend.changes)}
              onClick={() => begin(() => doing(view.id, [finding], "mend"))}
            >
              {finding.mend.label}
            </button>
          )}
          <Popup button="Accept" title={`Accept: ${finding.title.toLowerCase()}`}>
            {(close) => <Accepting view={view} of={[finding]} close={close} />}
          </Popup>
        </>
      )}
    </li>
  );
}

function Accepting({ view, of, close }: { view: InstrumentView; of: FindingView[]; close: () => void }) {
  const [reason, setReason] = useState("");
  const [pending, begin] = usePending();
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        begin(async () => {
          await doing(view.id, of, { accept: reason });
          close();
        });
      }}
    >
      <label className="block text-[12px] text-ink2">
        Why it is right as it is
        <input className="written mt-1" value={reason} maxLength={300} onChange={(event) => setReason(event.target.value)} />
      </label>
      <p className="mt-2 text-[12px] text-ink3">It holds until what was found changes.</p>
      <button className="button act mt-2" disabled={pending || reason.trim() === ""}>
        Accept {of.length === 1 ? "it" : `these ${of.length}`}
      </button>
    </form>
  );
}

/** What is heard of the chosen one, its limit, and what can be done with all of its kind. */
function Chosen({
  view,
  finding,
  all,
  limits,
}: {
  view: InstrumentView;
  finding: FindingView;
  all: FindingView[];
  limits: Schemas["LimitView"][];
}) {
  const limit = limits.find(({ kind }) => kind === finding.kind);
  const same = all.filter((one) => one.kind === finding.kind && isLeft(one));
  const mendable = same.filter((one) => one.mend);
  const at = heardOn(view, finding);
  const hear = () => {
    if (!at) return;
    void player.on(at.key, at.strike).catch(sayError);
    setTimeout(() => player.off(at.key), HEARD_MS);
  };
  const unit = limit && unitOf(limit.unit);
  return (
    <div className="card p-3" data-part="chosen finding">
      <h3 className="font-semibold">
        {finding.title} <span className="font-normal text-ink2">{whereOf(finding)}</span>
      </h3>
      <p className="text-ink2">{inWords(finding.says)}</p>
      {finding.mend && <p className="text-[12px] text-ink2">{`${finding.mend.label}: ${inWords(finding.mend.changes)}`}</p>}
      {limit && unit && (
        <p className="mt-1 text-[12px] text-ink3">
          {finding.how_much != null && <>{unit.show(finding.how_much)}; </>}
          found from {unit.show(limit.limit)} on (see Limits). {limit.because}
        </p>
      )}
      <div className="mt-2 flex flex-wrap items-center gap-2">
        {at && (
          <button className="button" onClick={hear}>
            Hear {keyName(at.key)}
          </button>
        )}
        <Link to="/instruments/$id/$step" params={{ id: String(view.id), step: finding.step }} className="button">
          Go to <span className="capitalize">{finding.step}</span>
        </Link>
        {mendable.length > 1 && (
          <Popup button={`Mend all ${mendable.length} of this kind`} title="What would change">
            {(close) => <Mending view={view} of={mendable} close={close} />}
          </Popup>
        )}
        {same.length > 1 && (
          <Popup button={`Accept all ${same.length}`} title={`Accept: ${finding.title.toLowerCase()}`}>
            {(close) => <Accepting view={view} of={same} close={close} />}
          </Popup>
        )}
        <span className="grow" />
        <span className="text-[12px] text-ink3">{counted(same.length, "finding")} of this kind left</span>
      </div>
    </div>
  );
}
