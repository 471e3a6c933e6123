// The steps from a plan to what is given away.

export const STEPS = ["plan", "record", "trim", "tune", "loop", "map", "shape", "panel", "check", "export"] as const;
export type Step = (typeof STEPS)[number];

/** What the address of a page names. */
export interface Whereabouts {
  id?: string;
  step?: string;
}
