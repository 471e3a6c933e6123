// A number that is typed with its unit, nudged with arrow keys, dragged by its name, and returned to its automatic value where it is emptied.
import { type PointerEvent, useEffect, useEffectEvent, useId, useRef, useState } from "react";
import { key, type Unit } from "../model/units";
import { useSound } from "../sound/player";
import { sayError } from "../state/view";
import { type By, useDrag } from "./drag";

/** A step for so many pixels. */
const STEP_PIXELS = 6;

/** Without what floating point adds. */
const rounded = (value: number) => Math.round(value * 1e6) / 1e6;

/** What stands over a number while the pointer is there. */
const OVER_IT = "relative z-10 float-right -mt-4 flex bg-raised text-[11px] leading-4 text-act";

interface Props {
  label: string;
  value: number | undefined;
  unit: Unit;
  /** Whether it was set by hand. */
  byHand?: boolean;
  disabled?: boolean;
  width?: string;
  /** `moved` is by how much, where it was dragged or nudged; else it was typed. */
  onSet: (value: number, moved?: number) => void;
  /** Typed as «by …»: each of several is changed by so much. */
  onBy?: ((by: number) => void) | undefined;
  /** Lets it follow something, beginning where it is. */
  onDrive?: (() => void) | undefined;
  /** Makes a control of the panel that moves it. */
  onControl?: (() => void) | undefined;
  onAutomatic?: () => void;
  /** Told while the number is dragged, before it is kept. */
  onLive?: (value: number) => void;
}

export function Field({ label, value, unit, byHand, disabled, width, onSet, onBy, onDrive, onControl, onAutomatic, onLive }: Props) {
  const id = useId();
  const shown = value === undefined ? "–" : unit.show(value);
  const [text, setText] = useState(shown);
  const editing = useRef(false);
  useEffect(() => {
    if (!editing.current) setText(shown);
  }, [shown]);
  const keep = () => {
    if (!editing.current) return;
    editing.current = false;
    if (text.trim() === "" && onAutomatic) {
      setText(shown);
      onAutomatic();
      return;
    }
    const by = onBy && /^\s*by\b/i.test(text) ? unit.parse(text.replace(/^\s*by\b/i, "")) : undefined;
    if (by !== undefined) {
      setText(shown);
      onBy?.(by);
      return;
    }
    const parsed = unit.parse(text);
    if (parsed === undefined && text !== shown)
      sayError(new Error(`«${text}» is not understood as ${label.toLowerCase()}; ${shown} was kept.`));
    setText(shown);
    if (parsed !== undefined && text !== shown && parsed !== value) onSet(parsed);
  };
  // A key is said by playing it, while its field has the focus.
  const [focused, setFocused] = useState(false);
  const played = useEffectEvent((struck: number) => {
    editing.current = false;
    if (struck !== value && !disabled) onSet(struck);
  });
  useEffect(
    () =>
      focused && unit === key
        ? useSound.subscribe((now, before) => {
            if (now.struck && now.struck !== before.struck) played(now.struck.key);
          })
        : undefined,
    [focused, unit],
  );
  const nudge = (by: number) => {
    if (value !== undefined && !disabled) onSet(rounded(value + by), by);
  };
  // Dragging the name up or down: so many steps, with Alt fine ones.
  const dragged = (by: By, event: PointerEvent) => {
    const steps = Math.trunc(-by.y / STEP_PIXELS);
    return value === undefined || disabled ? undefined : rounded(value + steps * (event.altKey ? unit.fine : unit.step));
  };
  const { handlers } = useDrag<true>({
    take: () => true,
    move: (_, by, __, event) => {
      const now = dragged(by, event);
      if (now === undefined) return;
      setText(unit.show(now));
      onLive?.(now);
    },
    drop: (_, by, __, event) => {
      const now = dragged(by, event);
      setText(shown);
      if (now !== undefined && now !== value) onSet(now, rounded(now - value!));
    },
    cancel: () => {
      // What it was is heard and shown again.
      setText(shown);
      if (value !== undefined) onLive?.(value);
    },
  });
  return (
    <div
      className="group"
      style={{ width }}
      title={byHand ? "Set by hand; emptied, or its name clicked twice, it returns to the automatic value" : undefined}
    >
      <label
        htmlFor={id}
        onDoubleClick={onAutomatic}
        className="field-label block cursor-ns-resize select-none whitespace-nowrap"
        {...handlers}
      >
        {label}
      </label>
      {(onDrive ?? onControl) && (
        <span className={`${OVER_IT} opacity-0 group-hover:opacity-100 focus-within:opacity-100`}>
          {onDrive && (
            <button
              className="rounded px-0.5 hover:underline"
              aria-label={`Let ${label.toLowerCase()} follow something`}
              title="Let it follow something, from where it is now"
              onClick={onDrive}
            >
              follow
            </button>
          )}
          {onControl && (
            <button
              className="rounded px-0.5 hover:underline"
              aria-label={`Make ${label.toLowerCase()} a control of the panel`}
              title="Make a control of the panel that moves it, from where it is now"
              onClick={onControl}
            >
              ◫
            </button>
          )}
        </span>
      )}
      <input
        id={id}
        className={`num mt-0.5 w-full rounded-lg border bg-raised px-2 py-1 ${byHand ? "border-act font-semibold text-ink" : "border-edge text-ink2"}`}
        value={text}
        disabled={disabled}
        spellCheck={false}
        autoComplete="off"
        onFocus={(event) => {
          event.currentTarget.select();
          setFocused(true);
        }}
        onChange={(event) => {
          editing.current = true;
          setText(event.target.value);
        }}
        onBlur={() => {
          setFocused(false);
          keep();
        }}
        onKeyDown={(event) => {
          if (event.key === "Enter") keep();
          else if (event.key === "Escape") {
            editing.current = false;
            setText(shown);
          } else if (event.key === "ArrowUp" || event.key === "ArrowDown") {
            event.preventDefault();
            nudge((event.key === "ArrowUp" ? 1 : -1) * (event.altKey ? unit.fine : unit.step));
          }
          event.stopPropagation();
        }}
      />
    </div>
  );
}
