// Where each take is looped, and what its seam is worth.
import { useQuery } from "@tanstack/react-query";
import { useCallback, useMemo, useState } from "react";
import { answer, api, change, type TakeLoop, type TakeView } from "../api/client";
import { seamOf } from "../model/cells";
import { db, frames } from "../model/units";
import { Badge, BenchHead, type OnBench } from "../parts/Bench";
import type { Plot } from "../parts/Board";
import { Canvas, MONO, type Surface } from "../parts/canvas";
import { Field } from "../parts/Field";
import { drawableTake, Waveform } from "../parts/Waveform";
import { sayError } from "../state/view";
import { HearButton, velocityOf } from "./Trim";

/** A seam over this is to be checked (bars: median −30 dB, 95 % at −20 dB). */
const CHECK_DB = -20;
/** Half of what the seam view shows. */
const SEAM_MS = 12;

export const loopPlot: Plot = {
  title: "seam, dB",
  low: -60,
  high: 0,
  line: CHECK_DB,
  value: seamOf,
  show: (value) => db(value),
  verdict: (value) => (value > -10 ? 2 : value > CHECK_DB ? 1 : 0),
};

async function rawAudio(take: number, first: number, end: number): Promise<Float32Array> {
  const response = await fetch(`/api/takes/${take}/audio?first=${Math.max(0, first)}&end=${end}`);
  if (!response.ok) throw new Error("The audio around the seam cannot be read.");
  return new Float32Array(await response.arrayBuffer());
}

export function LoopBench({ on }: { on: OnBench }) {
  const { take, takes, view } = on;
  const [moving, setMoving] = useState<TakeLoop | undefined>();
  const held = take.treatment;
  const drawable = useMemo(() => drawableTake(take), [take.id, take.frames]);
  const now = moving ?? held?.loop ?? undefined;
  const period = take.facts?.pitch ? take.rate_hz / take.facts.pitch.hz : 200;
  const seam = useQuery({
    queryKey: ["seam", take.id, now?.start_frame, now?.end_frame],
    enabled: now !== undefined && now.end_frame > now.start_frame,
    staleTime: Infinity,
    placeholderData: (previous) => previous,
    queryFn: async () =>
      answer(await api.GET("/api/takes/{id}/seam", { params: { path: { id: take.id }, query: { start: now!.start_frame, end: now!.end_frame, period } } })),
  });
  if (!held) return <p className="text-ink3">This take is being measured.</p>;
  const keep = (label: string, loop: TakeLoop | null | undefined, of: TakeView[] = [take]) =>
    change(view.id, label, of.map((t) => ({ take: t.id, fact: "loop" as const, value: loop })))
      .catch(sayError)
      .finally(() => setMoving(undefined));
  const moved = (id: string, frame: number): TakeLoop => {
    const base = now ?? { start_frame: held.start_frame, end_frame: held.end_frame, crossfade_frames: 0 };
    const next = { ...base, [id === "start" ? "start_frame" : "end_frame"]: frame };
    const crossfade_frames = Math.max(0, Math.min(next.crossfade_frames, next.start_frame - held.start_frame, next.end_frame - next.start_frame));
    return { ...next, crossfade_frames };
  };
  const unit = frames(take.rate_hz);
  const byHand = take.correction.loop !== undefined;
  const drift = seam.data?.drift_db ?? 0;
  const others = takes.filter((t) => t.id !== take.id);
  const place = (loop: TakeLoop) => `${(loop.start_frame / take.rate_hz).toFixed(3)} s`;
  return (
    <>
      <BenchHead
        on={on}
        note={
          !now ? <Badge>no loop</Badge>
          : seam.data?.seam_db != null && seam.data.seam_db > CHECK_DB ? <Badge>seam {db(seam.data.seam_db)}</Badge>
          : drift > 1 ? <Badge>level drifts {drift.toFixed(1)} dB across the loop</Badge>
          : null
        }
      />
      <div className="card relative h-[250px] shrink-0 overflow-hidden">
        <Waveform
          take={drawable}
          heard={[held.start_frame, held.end_frame]}
          tinted={now && { start: now.start_frame, end: now.end_frame, crossfade: now.crossfade_frames }}
          marks={now ? [{ id: "start", label: "start", frame: now.start_frame, side: "right" }, { id: "end", label: "end", frame: now.end_frame, side: "left" }] : []}
          onDrag={(id, frame) => setMoving(moved(id, frame))}
          onDrop={(id, frame) => {
            const next = moved(id, frame);
            if (next.start_frame < next.end_frame) void keep(id === "start" ? "move the loop's start" : "move the loop's end", next);
            else setMoving(undefined);
          }}
        />
      </div>
      <div className="flex min-h-[190px] shrink-0 gap-3">
        <div className="card flex min-w-0 flex-1 flex-col overflow-hidden">
          <div className="px-3 pt-2"><b className="font-semibold">Seam</b> <span className="text-ink3">as it will sound: end, then start</span></div>
          <div className="relative min-h-0 flex-1">{now && <Seam take={take} loop={now} />}</div>
          <p className="num px-3 pb-1.5 text-[11.5px] text-ink3" data-part="seam-level">seam {db(seam.data?.seam_db)} · drift {drift.toFixed(1)} dB</p>
        </div>
        <div className="card min-w-0 flex-1 overflow-hidden">
          <div className="flex justify-between px-3 pt-2"><b className="font-semibold">Places to loop</b><span className="text-ink3">best first</span></div>
          <table className="num mt-1 w-full text-[12px]">
            <thead className="text-left text-ink3"><tr><th className="px-3 font-normal">start</th><th className="font-normal">length</th><th className="font-normal">seam</th><th className="font-normal">drift</th></tr></thead>
            <tbody>
              {take.facts?.loops.map((l) => {
                const is = now?.start_frame === l.start_frame && now.end_frame === l.end_frame;
                const { start_frame, end_frame, crossfade_frames } = l;
                return (
                  <tr key={`${l.start_frame}-${l.end_frame}`} className={`cursor-pointer border-t border-line2 ${is ? "bg-act-soft" : "hover:bg-sheet"}`} onClick={() => void keep("take another loop", { start_frame, end_frame, crossfade_frames })}>
                    <td className="px-3 py-1"><button>{place(l)}</button></td><td>{((l.end_frame - l.start_frame) / take.rate_hz).toFixed(3)} s</td><td>{db(l.seam_db, 0)}</td><td>{l.drift_db.toFixed(1)} dB</td>
                  </tr>
                );
              })}
            </tbody>
          </table>
          {take.facts?.loops.length === 0 && <p className="p-3 text-ink3">Nothing here is worth looping.</p>}
        </div>
      </div>
      <div className="card flex flex-wrap items-end gap-3 p-3">
        <Field label="Loop start" width="98px" value={now?.start_frame} unit={unit} byHand={byHand} disabled={!now} onSet={(v) => void keep("move the loop's start", moved("start", Math.round(v)))} onAutomatic={() => void keep("loop back to automatic", undefined)} />
        <Field label="Loop end" width="98px" value={now?.end_frame} unit={unit} byHand={byHand} disabled={!now} onSet={(v) => void keep("move the loop's end", moved("end", Math.round(v)))} onAutomatic={() => void keep("loop back to automatic", undefined)} />
        <Field label="Crossfade" width="90px" value={now?.crossfade_frames} unit={unit} byHand={byHand} disabled={!now} onSet={(v) => now && void keep("change the crossfade", { ...now, crossfade_frames: Math.max(0, Math.round(v)) })} onAutomatic={() => void keep("loop back to automatic", undefined)} />
        <div className="grow" />
        {byHand && <button className="button" onClick={() => void keep("loop back to automatic", undefined, takes)}>Automatic{others.length > 0 ? ` for ${takes.length}` : ""}</button>}
        <button className="button" disabled={!now} onClick={() => void keep(takes.length > 1 ? `no loop on ${takes.length} takes` : "no loop", null, takes)}>No loop{others.length > 0 ? ` for ${takes.length}` : ""}</button>
        <HearButton keyNumber={take.cell.key} velocity={velocityOf(on)} name="Hear the loop" />
      </div>
    </>
  );
}

/** The audio at the end running into the start, with what each would have gone on to be, and what does not fit. */
function Seam({ take, loop }: { take: TakeView; loop: TakeLoop }) {
  const reach = Math.round((SEAM_MS * take.rate_hz) / 1000);
  const around = (frame: number) => ({ queryKey: ["around", take.id, frame], queryFn: () => rawAudio(take.id, frame - reach, frame + reach), staleTime: Infinity, gcTime: 20_000, placeholderData: (previous: Float32Array | undefined) => previous });
  const end = useQuery(around(loop.end_frame)).data;
  const start = useQuery(around(loop.start_frame)).data;
  const sides = useMemo(() => {
    const one = (data: Float32Array | undefined) => (data ? Array.from({ length: Math.floor(data.length / take.channels) }, (_, n) => data[n * take.channels]!) : []);
    return { end: one(end), start: one(start) };
  }, [end, start, take.channels]);
  const draw = useCallback(
    ({ ctx, width, height, colours }: Surface) => {
      ctx.fillStyle = colours.raised;
      ctx.fillRect(0, 0, width, height);
      ctx.fillStyle = colours.paper;
      ctx.fillRect(0, 0, width / 2, height);
      const count = Math.min(sides.end.length, sides.start.length);
      if (count === 0) return;
      const top = Math.max(1e-4, ...sides.end.map(Math.abs), ...sides.start.map(Math.abs));
      const middle = height / 2 - 6;
      const x = (n: number) => (n / count) * width;
      const y = (v: number) => middle - (v / top) * (middle - 6);
      ctx.fillStyle = colours.chosenLine;
      ctx.globalAlpha = 0.4;
      for (let n = 0; n < count; n++) {
        const off = Math.abs(sides.end[n]! - sides.start[n]!) / top;
        ctx.fillRect(x(n), height - 14 - off * 24, Math.max(1, width / count), off * 24);
      }
      ctx.globalAlpha = 1;
      const line = (values: number[], from: number, to: number, colour: string, dash: number[]) => {
        ctx.beginPath();
        ctx.setLineDash(dash);
        for (let n = from; n < to; n++) ctx.lineTo(x(n), y(values[n]!));
        ctx.strokeStyle = colour;
        ctx.lineWidth = dash.length ? 1 : 1.6;
        ctx.stroke();
        ctx.setLineDash([]);
      };
      const half = Math.floor(count / 2);
      line(sides.start, 0, half, colours.mark, [2, 3]);
      line(sides.end, half, count, colours.mark, [2, 3]);
      line(sides.end, 0, half, colours.wave, []);
      line(sides.start, half, count, colours.wave, []);
      ctx.fillStyle = colours.act;
      ctx.fillRect(width / 2, 0, 1.2, height - 14);
      ctx.font = MONO;
      ctx.fillStyle = colours.ink3;
      ctx.textBaseline = "middle";
      ctx.fillText(`−${SEAM_MS} ms`, 6, height - 6);
      ctx.fillText(`+${SEAM_MS} ms`, width - 54, height - 6);
    },
    [sides],
  );
  return <Canvas draw={draw} role="img" aria-label="The seam: the loop's end running into its start" />;
}
