// The next MIDI controller that moves is taken.
import { useEffect, useEffectEvent } from "react";
import { listenToMidi, useSound } from "../sound/player";
import { sayError } from "../state/view";

/** While there is something to be done with it, it is given the controller that moves next, by hand or on the screen. */
export function useLearning(learnt: ((controller: number) => void) | undefined): void {
  const take = useEffectEvent((controller: number) => learnt?.(controller));
  const waits = learnt !== undefined;
  useEffect(() => {
    if (!waits) return undefined;
    // Without MIDI the hands on the screen can still be moved.
    void listenToMidi().catch(sayError);
    return useSound.subscribe(({ controllers }, before) => {
      const moved = Object.keys(controllers).find((one) => controllers[Number(one)] !== before.controllers[Number(one)]);
      if (moved !== undefined && Number(moved) < 120) take(Number(moved));
    });
  }, [waits]);
}
