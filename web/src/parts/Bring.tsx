// A button that asks for files of this computer.
import { ACCEPT } from "../state/sending";

interface Props {
  name: string;
  title?: string;
  /** The one that is meant. */
  main?: boolean;
  /** A whole folder. */
  folder?: boolean;
  /** One file alone. */
  one?: boolean;
  part?: string;
  /** Which kinds; those that are read as takes where that is left out. */
  accept?: string;
  onFiles: (files: File[]) => void;
}

export function Bring({ name, title, main, folder, one, part, accept = ACCEPT, onFiles }: Props) {
  return (
    <label className={`button cursor-pointer ${main ? "act" : ""}`} title={title}>
      {name}
      <input
        type="file"
        className="sr-only"
        data-part={part}
        multiple={!one}
        accept={folder ? undefined : accept}
        ref={(input) => {
          if (folder) input?.setAttribute("webkitdirectory", "");
        }}
        onChange={(event) => {
          onFiles([...(event.target.files ?? [])]);
          // The same file may be chosen again.
          event.target.value = "";
        }}
      />
    </label>
  );
}
