// The hands one does not have: wheel, bend, pressure, expression and pedals, moved on the screen wherever keys play.
import { controllerName } from "../model/strands";
import { player, useSound } from "../sound/player";
import { FootBox } from "./FootBox";

const MIDDLE = 8_192;
const WHEELS = [1, 2, 11, 74];
const PEDALS = [64, 66, 67];

/** The controllers that a program follows, and those that everybody expects, each from where it stands at first. */
export function Hands({ followed, atFirst }: { followed: number[]; atFirst: number[] }) {
  const { controllers, bend, pressure, keyUpSpeed } = useSound();
  const wheels = [...new Set([...WHEELS, ...followed.filter((n) => !PEDALS.includes(n))])];
  const stands = (n: number) => controllers[n] ?? atFirst[n] ?? 0;
  return (
    <FootBox name="Hands" title="Wheel, bend, pressure, expression and pedals, for whoever has none" width="w-80">
      <Slider label="bend" low={0} high={16_383} value={bend} onMove={(value) => player.bend(value)} onLet={() => player.bend(MIDDLE)} />
      <Slider
        label="pressure"
        low={0}
        high={127}
        value={pressure}
        onMove={(value) => player.pressure(value)}
        onLet={() => player.pressure(0)}
      />
      <Slider label="key-up speed" low={0} high={127} value={keyUpSpeed} onMove={(value) => useSound.setState({ keyUpSpeed: value })} />
      {wheels.map((n) => (
        <Slider key={n} label={controllerName(n)} low={0} high={127} value={stands(n)} onMove={(value) => player.controller(n, value)} />
      ))}
      <div className="flex flex-wrap gap-3">
        {PEDALS.map((n) => (
          <label key={n} className="flex items-center gap-1">
            <input type="checkbox" checked={stands(n) >= 64} onChange={(event) => player.controller(n, event.target.checked ? 127 : 0)} />
            {controllerName(n)}
          </label>
        ))}
      </div>
    </FootBox>
  );
}

interface SliderProps {
  label: string;
  low: number;
  high: number;
  value: number;
  onMove: (value: number) => void;
  /** What a hand lets go springs back. */
  onLet?: () => void;
}

function Slider({ label, low, high, value, onMove, onLet }: SliderProps) {
  return (
    <label className="flex items-center gap-2">
      <span className="w-28 shrink-0 truncate text-ink2">{label}</span>
      <input
        type="range"
        min={low}
        max={high}
        value={value}
        aria-label={`Hand: ${label}`}
        className="grow accent-act"
        onChange={(event) => onMove(Number(event.target.value))}
        onPointerUp={onLet}
        onBlur={onLet}
      />
    </label>
  );
}
