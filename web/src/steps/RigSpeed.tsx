// How fast a simulated rig runs.
import { Choice } from "../parts/Choice";

export type Speed = "full" | "real";

const SPEEDS: { value: Speed; name: string }[] = [
  { value: "full", name: "as fast as it can" },
  { value: "real", name: "1×, as a device would" },
];

export function RigSpeed({ speed, onSet }: { speed: Speed; onSet: (speed: Speed) => void }) {
  return (
    <div className="w-48">
      <Choice label="Speed of the simulated rig" value={speed} onChange={onSet} options={SPEEDS} />
    </div>
  );
}
