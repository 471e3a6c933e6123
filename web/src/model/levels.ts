// What brings the levels of strands together.

/** Ten keys struck hard stay under it. */
export const CEILING_DBTP = -1;

interface Heard {
  strand: number;
  loudness_lufs?: number | null;
}

const known = (all: Heard[]) => all.flatMap((one) => (one.loudness_lufs == null ? [] : [one.loudness_lufs]));

/** How far the loudest is over the softest, in dB. */
export function apart(all: Heard[]): number {
  const levels = known(all);
  return levels.length > 1 ? Math.max(...levels) - Math.min(...levels) : 0;
}

/** By how much a strand is louder or softer where all are as loud as they are on average; one that is silent, or not heard by keys, stays. */
export function levelled(all: Heard[], strand: number): number {
  const levels = known(all);
  const own = all.find((one) => one.strand === strand)?.loudness_lufs;
  return own == null ? 0 : levels.reduce((sum, level) => sum + level, 0) / levels.length - own;
}
