// Numbers that lie within a range.

export interface Ranged {
  /** Lowest and highest. */
  within: [number, number];
  /** Whether it is a whole one. */
  whole?: boolean;
}

/** The nearest that fits. */
export function fitted({ within: [low, high], whole }: Ranged, value: number): number {
  const inside = Math.min(high, Math.max(low, value));
  return whole ? Math.round(inside) : inside;
}
