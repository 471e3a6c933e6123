// Things that are kept under a name for all pages, and used elsewhere.
import { useState } from "react";
import type { Schemas } from "../api/client";
import { forget, keep } from "../state/kept";
import { sayError, useView } from "../state/view";
import { AskName, AskSurely } from "./Ask";
import { Menu } from "./Menu";

interface Props {
  kind: Schemas["KeptKind"];
  /** What one of them is called. */
  noun: string;
  button: string;
  className: string;
  title: string;
  /** Names that are there. */
  names: string[];
  /** What is kept now. */
  said: () => unknown;
  onUse: (name: string) => void;
}

export function KeptMenu({ kind, noun, button, className, title, names, said, onUse }: Props) {
  const [asks, setAsks] = useState(false);
  const [forgets, setForgets] = useState<string>();
  const say = (name: string) => useView.getState().say(`«${name}» is kept.`);
  return (
    <>
      <Menu
        button={button}
        className={className}
        title={title}
        align="end"
        acts={[
          { name: "Keep this one…", begin: () => setAsks(true) },
          ...names.map((name) => ({ name: `Use «${name}»`, begin: () => onUse(name) })),
          ...names.map((name) => ({ name: `Forget «${name}»…`, begin: () => setForgets(name) })),
        ]}
      />
      <AskName
        title={`Keep this ${noun} as`}
        open={asks}
        value=""
        onClose={() => setAsks(false)}
        onKeep={(name) =>
          void keep(kind, name, said())
            .then(() => say(name))
            .catch(sayError)
        }
      />
      {forgets !== undefined && (
        <AskSurely
          title={`Forget «${forgets}»?`}
          act="Forget it"
          onClose={() => setForgets(undefined)}
          onSure={() => void forget(kind, forgets).catch(sayError)}
        >
          It is kept no longer, for nobody. What was given it stays as it is.
        </AskSurely>
      )}
    </>
  );
}
