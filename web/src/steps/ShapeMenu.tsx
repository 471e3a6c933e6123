// A strand's whole shape, kept under a name and used elsewhere.
import { useState } from "react";
import { AskName, AskSurely } from "../parts/Ask";
import { Menu } from "../parts/Menu";
import { change } from "../state/edits";
import { sayError, useView } from "../state/view";
import { forgetShape, keepShape, keptOf, useKeptShapes, wishesOf } from "./keptShapes";
import type { Shaped } from "./routes";

export function ShapeMenu({ shaped }: { shaped: Shaped }) {
  const kept = useKeptShapes((state) => state.kept);
  const [names, setNames] = useState(false);
  const [forgets, setForgets] = useState<string>();
  const { view, of, shape, whose } = shaped;
  const give = (name: string) => {
    const found = kept.find((one) => one.name === name)!;
    const wishes = of.flatMap((one) => wishesOf(found, one));
    void change(view.id, `play ${whose} as «${name}»`, wishes).catch(sayError);
  };
  return (
    <>
      <Menu
        button="Kept shapes ▾"
        className="button"
        title="All of it (loudness, brightness, pitch and what they follow), kept in this browser and used anywhere"
        align="end"
        acts={[
          { name: "Keep this one…", begin: () => setNames(true) },
          ...kept.map(({ name }) => ({ name: `Use «${name}»`, begin: () => give(name) })),
          ...kept.map(({ name }) => ({ name: `Forget «${name}»…`, begin: () => setForgets(name) })),
        ]}
      />
      <AskName
        title="Keep this shape as"
        open={names}
        value=""
        onClose={() => setNames(false)}
        onKeep={(name) => {
          keepShape(keptOf(name, view.program, shape));
          useView.getState().say(`«${name}» is kept in this browser.`);
        }}
      />
      {forgets !== undefined && (
        <AskSurely title={`Forget «${forgets}»?`} act="Forget it" onClose={() => setForgets(undefined)} onSure={() => forgetShape(forgets)}>
          This browser keeps it no longer. Strands that were given it stay as they are.
        </AskSurely>
      )}
    </>
  );
}
