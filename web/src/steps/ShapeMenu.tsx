// A strand's whole shape, kept under a name and used elsewhere.
import { KeptMenu } from "../parts/KeptMenu";
import { change } from "../state/edits";
import { sayError } from "../state/view";
import { keptOf, useKeptShapes, wishesOf } from "./keptShapes";
import type { Shaped } from "./routes";

export function ShapeMenu({ shaped }: { shaped: Shaped }) {
  const kept = useKeptShapes();
  const { view, of, shape, whose } = shaped;
  const give = (name: string) => {
    const found = kept.find((one) => one.name === name)!;
    const wishes = of.flatMap((one) => wishesOf(found, one));
    void change(view.id, `play ${whose} as «${name}»`, wishes).catch(sayError);
  };
  return (
    <KeptMenu
      kind="shape"
      noun="shape"
      button="Kept shapes ▾"
      className="button"
      title="All of it (loudness, brightness, pitch and what they follow), kept under a name and used anywhere"
      names={kept.map(({ name }) => name)}
      said={() => keptOf("", view.program, shape)}
      onUse={give}
    />
  );
}
