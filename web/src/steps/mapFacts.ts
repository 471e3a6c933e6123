// What is said of regions by hand.
import type { Fact } from "../api/client";
import type { Wish } from "../model/edited";
import { change } from "../state/edits";
import { type Extent, type Placed, type Side, someRegions } from "../model/regions";
import { sayError } from "../state/view";

export const FACT_OF: Record<Side, Fact> = {
  lowKey: "region_low_key",
  highKey: "region_high_key",
  lowStrike: "region_low_strike",
  highStrike: "region_high_strike",
};

/** "3 regions", "the region". */

/** Keeps where regions lie, as far as it is elsewhere than before; false where that was refused. */
export async function keepExtents(instrument: number, placed: { of: Placed; to: Extent }[]): Promise<boolean> {
  const wishes: Wish[] = placed.flatMap(({ of, to }) =>
    (Object.keys(FACT_OF) as Side[])
      .filter((side) => of.extent[side] !== to[side])
      .map((side) => ({ region: of.name, fact: FACT_OF[side], value: to[side] })),
  );
  if (wishes.length === 0) return true;
  const label = `set where ${someRegions(placed.length)} ${placed.length === 1 ? "lies" : "lie"}`;
  return change(instrument, label, wishes).then(
    () => true,
    (error: unknown) => {
      sayError(error);
      return false;
    },
  );
}

/** Sets a number of regions, or gives it back to the rule. */
export function keepFact(instrument: number, of: Placed[], label: (what: string) => string, fact: Fact, value: unknown): void {
  void change(
    instrument,
    label(someRegions(of.length)),
    of.map(({ name }) => ({ region: name, fact, value })),
  ).catch(sayError);
}

/** Gives all that was said of regions back to the rule. */
export function giveBack(instrument: number, of: Placed[]): void {
  const wishes = of.flatMap(({ name, byHand }) => byHand.map((fact) => ({ region: name, fact, value: undefined })));
  void change(instrument, `give ${someRegions(of.length)} back to the rule`, wishes).catch(sayError);
}
