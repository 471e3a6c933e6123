// A line of text, kept on Enter and when it is left; Escape brings back what was there.
import { useState } from "react";

interface Props {
  /** Shown above; said alone where there is `quiet`. */
  label: string;
  quiet?: boolean;
  value: string;
  /** Given what was written where it is another text; false puts back what was there. */
  onKeep: (text: string) => boolean | void;
  placeholder?: string;
  title?: string;
  /** Of the input. */
  className?: string;
  /** Of its place. */
  place?: string;
}

export function Written({ label, quiet, value, onKeep, placeholder, title, className = "", place = "" }: Props) {
  const [text, setText] = useState(value);
  const [kept, setKept] = useState(value);
  if (kept !== value) {
    setKept(value);
    setText(value);
  }
  const keep = () => {
    if (text !== value && onKeep(text) === false) setText(value);
  };
  const input = (
    <input
      aria-label={quiet ? label : undefined}
      className={`written ${className}`}
      value={text}
      placeholder={placeholder}
      title={title}
      spellCheck={false}
      onChange={(event) => setText(event.target.value)}
      onBlur={keep}
      onKeyDown={(event) => {
        if (event.key === "Enter") event.currentTarget.blur();
        else if (event.key === "Escape") setText(value);
        event.stopPropagation();
      }}
    />
  );
  if (quiet) return input;
  return (
    <label className={place}>
      <span className="field-label">{label}</span>
      {input}
    </label>
  );
}
