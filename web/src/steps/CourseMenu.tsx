// A course over time, kept under a name and used elsewhere: those of loudness on loudness, all others on brightness and pitch.
import { useQuery } from "@tanstack/react-query";
import { KeptMenu } from "../parts/KeptMenu";
import { keptQuery } from "../state/queries";

interface Kept<T> {
  of: "loudness" | "other";
  course: T;
}

interface Props<T> {
  of: Kept<T>["of"];
  course: T;
  onUse: (name: string, course: T) => void;
}

export function CourseMenu<T>({ of, course, onUse }: Props<T>) {
  const all = useQuery(keptQuery("course")).data ?? [];
  const kept = all.map(({ name, said }) => ({ name, ...(said as Kept<T>) })).filter((one) => one.of === of);
  return (
    <KeptMenu
      kind="course"
      noun="course"
      button="Kept courses ▾"
      className="rounded px-1 text-[12px] text-ink2 hover:bg-line2"
      title="Its times and where it is held, kept under a name and used anywhere"
      names={kept.map(({ name }) => name)}
      said={(): Kept<T> => ({ of, course })}
      onUse={(name) => onUse(name, kept.find((one) => one.name === name)!.course)}
    />
  );
}
