// A take's spectrogram, alone or beside a neighbour's.
import { useQuery } from "@tanstack/react-query";
import { useCallback, useState } from "react";
import type { TakeView } from "../api/client";
import { keyName } from "../model/keys";
import type { OnBench } from "../parts/Bench";
import { Canvas, MONO, rgb, type Surface } from "../parts/canvas";
import { othersOf } from "../model/cells";
import { Choice } from "../parts/Choice";

/** This take's spectrogram, and another one beside it. */
export function Spectrograms({ on }: { on: OnBench }) {
  const { take, view } = on;
  const [beside, setBeside] = useState("none");
  const others = othersOf(view, take);
  const other = others.find((o) => o.value === beside)?.take;
  return (
    <div className="flex h-[calc(170px+var(--spare)/2)] gap-1 px-1 pb-1">
      <div className="flex min-w-0 flex-1 flex-col">
        <div className="w-48 px-2 pb-1">
          <Choice
            quiet
            label="Compared with"
            value={other ? beside : "none"}
            onChange={setBeside}
            options={[{ value: "none", name: "alone" }, ...others.map(({ value, name }) => ({ value, name: `beside ${name}` }))]}
          />
        </div>
        <div className="flex min-h-0 flex-1 gap-1">{[take, other].map((t) => t && <Spectrogram key={t.id} take={t} />)}</div>
      </div>
    </div>
  );
}

const COLUMNS = 320;
const ROWS = 96;

function Spectrogram({ take }: { take: TakeView }) {
  const picture = useQuery({
    queryKey: ["spectrogram", take.id],
    staleTime: Infinity,
    gcTime: 120_000,
    queryFn: async () => {
      const response = await fetch(`/api/takes/${take.id}/spectrogram?columns=${COLUMNS}&rows=${ROWS}`);
      if (!response.ok) throw new Error("The spectrogram cannot be drawn just now.");
      return new Uint8Array(await response.arrayBuffer());
    },
  }).data;
  const draw = useCallback(
    ({ ctx, width, height, colours }: Surface) => {
      ctx.fillStyle = colours.raised;
      ctx.fillRect(0, 0, width, height);
      if (!picture) return;
      const image = new ImageData(COLUMNS, ROWS);
      // The louder, the further from the ground.
      const [from, to] = [rgb(colours.sheet), rgb(colours.layerLoud)];
      for (let column = 0; column < COLUMNS; column++) {
        for (let row = 0; row < ROWS; row++) {
          const loud = (picture[column * ROWS + row]! / 255) ** 1.4;
          const at = ((ROWS - 1 - row) * COLUMNS + column) * 4;
          image.data.set([...from.map((c, i) => c + (to[i]! - c) * loud), 255], at);
        }
      }
      const small = new OffscreenCanvas(COLUMNS, ROWS);
      small.getContext("2d")!.putImageData(image, 0, 0);
      ctx.imageSmoothingEnabled = true;
      ctx.drawImage(small, 0, 0, width, height);
      ctx.font = MONO;
      ctx.textBaseline = "middle";
      ctx.fillStyle = colours.ink3;
      const nyquist = take.rate_hz / 2;
      for (const hz of [100, 1000, 10000])
        ctx.fillText(hz >= 1000 ? `${hz / 1000} kHz` : `${hz} Hz`, 4, height * (1 - Math.log(hz / 40) / Math.log(nyquist / 40)));
      ctx.fillText(`${keyName(take.cell.key)} ${(take.frames / take.rate_hz).toFixed(1)} s`, width - 76, height - 8);
    },
    [picture, take],
  );
  return (
    <div className="relative min-w-0 flex-1">
      <Canvas draw={draw} role="img" aria-label={`Spectrogram of ${keyName(take.cell.key)}`} />
    </div>
  );
}
