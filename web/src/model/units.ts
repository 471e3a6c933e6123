// Numbers as people write them.
import { keyName, parseKey } from "./keys";

export interface Unit {
  show: (value: number) => string;
  /** undefined where it is not understood. */
  parse: (text: string) => number | undefined;
  step: number;
  fine: number;
}

function plain(text: string, unit: RegExp): number | undefined {
  const match = /^\s*([−-]?[\d\s]*[.,]?\d+)\s*(\S*)\s*$/.exec(text);
  if (!match || !unit.test(match[2]!)) return undefined;
  const value = Number(match[1]!.replace(/\s/g, "").replace("−", "-").replace(",", "."));
  return Number.isFinite(value) ? value : undefined;
}

/** So many of something, whose plural is regular. */
export function counted(count: number, what: string): string {
  return `${grouped(count)} ${what}${count === 1 ? "" : "s"}`;
}

export function grouped(value: number): string {
  return Math.round(value)
    .toString()
    .replace(/\B(?=(\d{3})+$)/g, " ");
}

/** How long something will take, for who waits for it. */
export function forWaiting(seconds: number): string {
  if (seconds < 1.5) return "a moment";
  if (seconds < 90) return `${Math.round(seconds)} s`;
  return `${Math.round(seconds / 60)} min`;
}

/** With a true minus sign. */
export function signed(value: number, digits: number): string {
  const text = Math.abs(value).toFixed(digits);
  // No minus before a zero.
  return (value < 0 && Number(text) !== 0 ? "−" : "") + text;
}

/** Frames; `12 ms` and `1.5 s` are understood. */
export function frames(rate: number): Unit {
  return {
    show: grouped,
    parse: (text) => {
      const ms = plain(text, /^ms$/i);
      if (ms !== undefined) return Math.round((ms * rate) / 1000);
      const seconds = plain(text, /^s$/i);
      if (seconds !== undefined) return Math.round(seconds * rate);
      const value = plain(text, /^(frames?)?$/i);
      return value === undefined ? undefined : Math.round(value);
    },
    step: Math.round(rate / 1000),
    fine: 1,
  };
}

/** The same, shown in milliseconds: a bare number is some of them. With so many digits that every frame has a number of its own. */
export function milliseconds(rate: number): Unit {
  const inFrames = frames(rate);
  const digits = Math.max(0, Math.ceil(Math.log10(rate / 500)));
  return {
    ...inFrames,
    show: (v) => `${((v * 1000) / rate).toFixed(digits).replace(/\.0*$|(\.\d*?)0+$/, "$1")} ms`,
    parse: (text) => {
      const value = plain(text, /^(ms)?$/i);
      return value === undefined ? inFrames.parse(text) : Math.round((value * rate) / 1000);
    },
  };
}

export const cents: Unit = { show: (v) => `${signed(v, 2)} ct`, parse: (t) => plain(t, /^(ct|cents?)?$/i), step: 1, fine: 0.01 };
/** Cents, shown as octaves. */
export const octaves: Unit = {
  show: (v) => `${v > 0 ? "+" : ""}${signed(v / 1200, 2).replace(/\.?0+$/, "")} oct`,
  parse: (t) => {
    const value = plain(t.replace(/^\s*\+/, ""), /^(oct|octaves?)?$/i);
    return value === undefined ? cents.parse(t) : value * 1200;
  },
  step: 120,
  fine: 12,
};
/** Doublings, shown as a factor: three of them are × 8, −1 is × 0.5. */
export const doublings: Unit = {
  show: (v) => `× ${Number((2 ** v).toPrecision(3))}`,
  parse: (t) => {
    const octave = octaves.parse(t);
    const factor = Number.parseFloat(t.replace(/^\s*[×x*]?\s*/i, "").replace(",", "."));
    if (/oct/i.test(t)) return octave === undefined ? undefined : octave / 1200;
    return factor > 0 && /^\s*[×x*]?\s*[\d.,]+\s*[×x]?\s*$/i.test(t) ? Math.log2(factor) : undefined;
  },
  step: 0.1,
  fine: 0.01,
};
export const decibels: Unit = { show: (v) => `${signed(v, 1)} dB`, parse: (t) => plain(t, /^(dB)?$/i), step: 1, fine: 0.1 };
export const lufs: Unit = { show: (v) => `${signed(v, 1)} LUFS`, parse: (t) => plain(t, /^(LUFS|dB)?$/i), step: 1, fine: 0.1 };
export const percent: Unit = { show: (v) => `${Math.round(v)} %`, parse: (t) => plain(t, /^%?$/), step: 10, fine: 1 };
/** A share of 1, shown as a percentage. */
export const share: Unit = {
  show: (v) => percent.show(v * 100),
  parse: (t) => {
    const value = percent.parse(t);
    return value === undefined ? undefined : value / 100;
  },
  step: 0.1,
  fine: 0.01,
};
export const key: Unit = { show: keyName, parse: parseKey, step: 1, fine: 1 };
export const hertz: Unit = { show: (v) => `${Math.round(v * 10) / 10} Hz`, parse: (t) => plain(t, /^(Hz)?$/i), step: 5, fine: 0.1 };
/** A frequency; `kHz` is understood. */
export const frequency: Unit = {
  show: (v) => (v < 1000 ? `${Math.round(v)} Hz` : `${grouped(v)} Hz`),
  parse: (t) => plain(t, /^(Hz)?$/i) ?? ((khz) => (khz === undefined ? undefined : khz * 1000))(plain(t, /^kHz$/i)),
  step: 100,
  fine: 10,
};
export const ratio: Unit = {
  show: (v) => `${Math.round(v * 10) / 10} : 1`,
  parse: (t) => plain(t.replace(/:\s*1\s*$/, ""), /^$/),
  step: 0.5,
  fine: 0.1,
};
export const count: Unit = { show: (v) => String(v), parse: (t) => plain(t, /^[a-z]*$/i), step: 1, fine: 1 };
/** Quarter notes a minute. */
export const tempo: Unit = {
  show: (v) => `${Math.round(v * 100) / 100} BPM`,
  parse: (t) => plain(t, /^(BPM)?$/i),
  step: 1,
  fine: 0.1,
};
export const seconds: Unit = {
  show: (v) => `${v} s`,
  parse: (t) => plain(t, /^s?$/i) ?? ((ms) => (ms === undefined ? undefined : ms / 1000))(plain(t, /^ms$/i)),
  step: 0.5,
  fine: 0.1,
};
/** A time in milliseconds, shown in seconds from one second on. */
export const time: Unit = {
  show: (v) => (v < 1000 ? `${Math.round(v * 10) / 10} ms` : `${Math.round(v) / 1000} s`),
  parse: (t) => plain(t, /^(ms)?$/i) ?? ((s) => (s === undefined ? undefined : s * 1000))(plain(t, /^s$/i)),
  step: 10,
  fine: 1,
};
export const semitones: Unit = {
  show: (v) => `${v} ${v === 1 ? "key" : "keys"}`,
  parse: (t) => plain(t, /^(keys?|semitones?|st)?$/i),
  step: 1,
  fine: 1,
};

/** A difference in dB, with its sign. */
export function signedDb(value: number): string {
  return `${signed(value, 1)} dB`;
}

export function db(value: number | null | undefined, digits = 1): string {
  return value == null ? "–" : `${signed(value, digits)} dB`;
}

export function duration(totalSeconds: number): string {
  const whole = Math.max(0, Math.round(totalSeconds));
  if (whole < 60) return `${whole} s`;
  return `${Math.floor(whole / 60)} min ${String(whole % 60).padStart(2, "0")} s`;
}

/** To a tenth, with its sign: for what is retuned while it sounds. */
export function centsFine(value: number): string {
  return `${value > 0.05 ? "+" : ""}${signed(value, 1)} ct`;
}

export function megabytes(bytes: number): string {
  return bytes < 1e9 ? `${(bytes / 1e6).toFixed(bytes < 1e7 ? 1 : 0)} MB` : `${(bytes / 1e9).toFixed(2)} GB`;
}

/** Whole cents. */
export function centsShort(value: number | null | undefined): string {
  return `${signed(value ?? 0, 0)} ct`;
}
