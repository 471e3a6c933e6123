// What was said last stands over the foot line of every page, for a few seconds, and covers no button.
import { useEffect } from "react";
import { useView } from "../state/view";

const SHOWN_MS = 6_000;

export function Toast() {
  const { toast, say } = useView();
  useEffect(() => {
    if (!toast) return undefined;
    const timer = setTimeout(() => say(undefined), SHOWN_MS);
    return () => clearTimeout(timer);
  }, [toast, say]);
  return (
    <div aria-live="polite" className="pointer-events-none fixed inset-x-0 bottom-0.5 flex justify-center">
      {toast && (
        <button className="card pointer-events-auto max-w-3xl px-4 py-0.5 shadow-lg" data-part="toast" onClick={() => say(undefined)}>
          {toast}
        </button>
      )}
    </div>
  );
}
