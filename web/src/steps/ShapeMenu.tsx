// A strand's whole shape, kept under a name and used elsewhere.
import { useState } from "react";
import { AskName, AskSurely } from "../parts/Ask";
import { Menu } from "../parts/Menu";
import { change } from "../state/edits";
import { forget, keep } from "../state/kept";
import { sayError, useView } from "../state/view";
import { keptOf, useKeptShapes, wishesOf } from "./keptShapes";
import type { Shaped } from "./routes";

export function ShapeMenu({ shaped }: { shaped: Shaped }) {
  const kept = useKeptShapes();
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
        title="All of it (loudness, brightness, pitch and what they follow), kept under a name and used anywhere"
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
          void keep("shape", name, keptOf(name, view.program, shape))
            .then(() => useView.getState().say(`«${name}» is kept.`))
            .catch(sayError);
        }}
      />
      {forgets !== undefined && (
        <AskSurely
          title={`Forget «${forgets}»?`}
          act="Forget it"
          onClose={() => setForgets(undefined)}
          onSure={() => void forget("shape", forgets).catch(sayError)}
        >
          It is kept no longer, for nobody. Strands that were given it stay as they are.
        </AskSurely>
      )}
    </>
  );
}
