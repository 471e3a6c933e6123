// How far files are on their way to the server, and which of them were refused.

interface Props {
  going: { done: number; of: number } | undefined;
  refused: string[];
  stop: () => void;
  /** Of each of both. */
  className: string;
}

/** Refusals that are shown one by one. */
const SHOWN = 5;

export function Sending({ going, refused, stop, className }: Props) {
  return (
    <>
      {going && (
        <div className={`flex items-center gap-3 ${className}`} role="status">
          <span className="num">
            {going.done} of {going.of} files
          </span>
          <progress className="h-2 flex-1" value={going.done} max={going.of} aria-label="Files sent" />
          <button className="button !py-0.5" onClick={stop}>
            Cancel
          </button>
        </div>
      )}
      {refused.length > 0 && (
        <ul role="alert" className={`text-left text-warn ${className}`}>
          {refused.slice(0, SHOWN).map((line) => (
            <li key={line}>{line}</li>
          ))}
          {refused.length > SHOWN && <li>…and {refused.length - SHOWN} more.</li>}
        </ul>
      )}
    </>
  );
}
