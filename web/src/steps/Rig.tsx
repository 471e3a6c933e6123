// The rig: which devices, and the sound check before the first note.
import { useQuery } from "@tanstack/react-query";
import type { InstrumentView, Progress } from "../api/client";
import { changePlan } from "../state/edits";
import { findDevices, useChoices, useDevices } from "../devices/devices";
import { useLine } from "../devices/line";
import { db } from "../model/units";
import { Choice } from "../parts/Choice";
import { rigsQuery } from "../state/queries";
import { sayError } from "../state/view";
import { beginRun, letGo, PAGE_RIG } from "./run";

export function RigCard({ view, progress }: { view: InstrumentView; progress: Progress | undefined }) {
  const rigs = useQuery(rigsQuery).data ?? [];
  const devices = useDevices();
  const choices = useChoices();
  const line = useLine();
  const { plan } = view;
  const real = plan.source.rig === PAGE_RIG;
  const overMidi = (plan.source.how ?? "over_midi") === "over_midi";
  const check = progress?.check ?? view.check;
  const checking = progress !== undefined && progress.total === 0 && ["listening", "pulse", "settling", "waiting"].includes(progress.state);
  const setRig = (rig: string) => void changePlan(view, "choose a rig", { ...plan, source: { ...plan.source, rig } }).catch(sayError);
  return (
    <section className="card flex flex-col gap-3 p-3" aria-label="Rig" data-part="rig">
      <div className="grid grid-cols-3 gap-3">
        <Choice label="Rig" value={plan.source.rig} onChange={setRig} options={rigs.map((r) => ({ value: r.id, name: r.name }))} />
        {real && (
          <Choice
            label="Input"
            value={choices.input || "default"}
            onChange={(id) => choices.set({ input: id === "default" ? "" : id })}
            options={[
              { value: "default", name: "the system's own choice" },
              ...devices.inputs.filter((d) => d.id && d.id !== "default").map((d) => ({ value: d.id, name: d.name })),
            ]}
          />
        )}
        {real && (
          <Choice
            label="Channels"
            value={String(choices.channels)}
            onChange={(c) => choices.set({ channels: c === "1" ? 1 : 2 })}
            options={[
              { value: "1", name: "mono" },
              { value: "2", name: "stereo" },
            ]}
          />
        )}
        {real && overMidi && (
          <Choice
            label="MIDI output"
            value={choices.midiOutput || "none"}
            onChange={(id) => choices.set({ midiOutput: id === "none" ? "" : id })}
            options={[
              { value: "none", name: devices.midiOutputs.length === 0 ? "none found" : "none chosen" },
              ...devices.midiOutputs.map((d) => ({ value: d.id, name: d.name })),
            ]}
          />
        )}
      </div>
      {real && (
        <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
          <button className="button" onClick={() => void findDevices().catch(sayError)}>
            {devices.asked ? "Look for devices again" : "Look for devices"}
          </button>
          {devices.audioMissing && (
            <span role="alert" className="text-mark">
              {devices.audioMissing}
            </span>
          )}
          {overMidi && devices.midiMissing && (
            <span role="alert" className="text-mark">
              {devices.midiMissing}
            </span>
          )}
          {line.open && (
            <span className="num text-[12px] text-ink3" data-part="line" data-lost={line.lostFrames} data-connected={line.connected}>
              {line.device || "input"} ·{" "}
              {line.deviceRate && line.deviceRate !== line.rate
                ? `${line.deviceRate / 1000} kHz, converted once by the browser to ${line.rate / 1000} kHz`
                : `${line.rate / 1000} kHz`}{" "}
              · {line.lostFrames === 0 ? "no frame lost" : `${line.lostFrames} frames lost`}
              {line.connected ? "" : ` · line broken, ${line.keptSeconds.toFixed(0)} s kept`}
            </span>
          )}
          {line.open && !line.connected && (
            <button
              className="button"
              title="The input is given back; what the server has is kept, what it has not heard yet is lost"
              onClick={() => letGo()}
            >
              Let the input go
            </button>
          )}
          {line.says && (
            <span role="alert" className="text-mark">
              {line.says}
            </span>
          )}
        </div>
      )}
      <div className="flex items-start gap-4">
        <button
          className="button"
          disabled={progress !== undefined && !["finished", "stopped"].includes(progress.state)}
          onClick={() => void beginRun(view, { what: "check" }).catch(sayError)}
        >
          {checking ? "Checking…" : "Sound check"}
        </button>
        {checking ? (
          <p className="text-[15px] font-medium" aria-live="polite">
            {progress.state === "listening" ? "Quiet, please…" : overMidi ? "Listening to one loud note…" : "Now play your loudest note."}
          </p>
        ) : check ? (
          <div className="min-w-0 flex-1" data-part="check">
            <p className="num text-[12px]">
              floor {db(check.noise_floor_dbfs)} · hum {check.hum_dbfs == null ? "none" : `${db(check.hum_dbfs)} at ${check.hum_hz} Hz`} ·
              delay {check.delay_ms == null ? "–" : `${check.delay_ms.toFixed(1)} ms, taken out`} · loudest {db(check.peak_dbfs)}
            </p>
            <p className="text-ink2">{check.advice.join(" ")}</p>
          </div>
        ) : (
          <p className="text-ink3">
            Keep quiet for a moment: noise floor and hum are measured from silence
            {overMidi ? ", the delay and the level by one loud note" : ", the level by the loudest note you play"}.
          </p>
        )}
      </div>
    </section>
  );
}
