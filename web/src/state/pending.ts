// What was asked for and has not been answered: a second click asks for nothing.
import { useCallback, useRef, useState } from "react";
import { sayError } from "./view";

/** Whether something is under way, and what begins it; its error is said. */
export function usePending(): [boolean, (work: () => Promise<unknown>) => void] {
  const [pending, setPending] = useState(false);
  const busy = useRef(false);
  const begin = useCallback((work: () => Promise<unknown>) => {
    if (busy.current) return;
    busy.current = true;
    setPending(true);
    void work()
      .catch(sayError)
      .finally(() => {
        busy.current = false;
        setPending(false);
      });
  }, []);
  return [pending, begin];
}
