// What was set by hand on the take on the bench, put on the others that are chosen.
import { answer, api, type Schemas } from "../api/client";
import { queries } from "../state/client";
import { sayError, useView } from "../state/view";
import type { OnBench } from "./Bench";
import { Menu } from "./Menu";

const HOW: { how: Schemas["Spread"]; name: string; says: string }[] = [
  { how: "offsets", name: "moved alike", says: "each its own automatic value, moved as far" },
  { how: "values", name: "the same values", says: "exactly as they are here" },
];

export function UseOnMore({
  on,
  part,
  can,
}: {
  on: OnBench;
  part: Schemas["Part"];
  /** Whether anything was set by hand. */ can: boolean;
}) {
  const { take, takes, view } = on;
  const say = useView((state) => state.say);
  const others = takes.filter((t) => t.id !== take.id).map((t) => t.id);
  if (others.length === 0) return null;
  const put = async (how: Schemas["Spread"]) => {
    const done = answer(
      await api.POST("/api/instruments/{id}/spread", {
        params: { path: { id: view.id } },
        body: { from: take.id, onto: others, part, how },
      }),
    );
    if (done.left_alone > 0) say(`Used on ${done.changed} takes; ${done.left_alone} left alone, it does not fit them.`);
    await queries.refetchQueries({ queryKey: ["instrument", view.id] });
  };
  return (
    <Menu
      button={`Use on ${others.length} more ▾`}
      className="button"
      disabled={!can}
      title={can ? undefined : "Nothing was set by hand here"}
      align="end"
      acts={HOW.map(({ how, name, says }) => ({ name, says, begin: () => void put(how).catch(sayError) }))}
    />
  );
}
