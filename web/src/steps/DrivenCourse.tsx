// A course over time of brightness or pitch: a curve that is dragged, its numbers, and how far it goes.
import { useState } from "react";
import type { Schemas } from "../api/client";
import { courseDriven, type Driven, type DrivenCourse, said, same } from "../model/driving";
import { fitted } from "../model/ranges";
import { drivenCourseOf, drivenDraggedBy, flat, type Flat, inRow } from "../model/shape";
import { Field } from "../parts/Field";
import { player, type ShapeSetting } from "../sound/player";
import { CourseCurve } from "./CourseCurve";
import { CourseMenu } from "./CourseMenu";
import { Follows } from "./Follows";
import { drive, hasRoom, removePart, sayParts, sayRoute, type Shaped, shapesOf, toPanel } from "./routes";
import { type CourseNumber, DRIVEN_COURSE } from "./shapeFacts";

interface Props {
  shaped: Shaped;
  /** Its number, and that of the route by which it drives. */
  names: { course: number; route: number };
  driven: Driven;
  /** As it begins. */
  first: Partial<DrivenCourse> & { amount: number };
}

export function DrivenCourseCard({ shaped, names, driven, first }: Props) {
  const { shape, whose } = shaped;
  const kept = shape.courses.find(({ id }) => id === names.course);
  const route = shape.routes.find(({ id }) => id === names.route);
  const [live, setLive] = useState<Partial<Flat<DrivenCourse>>>();
  const of = `${driven.name} of ${whose} over time`;
  const parts = (label: string, course: DrivenCourse | null, way: Schemas["RouteSaid"] | null) =>
    sayParts(shaped, label, [
      { kind: "course", number: names.course, value: course },
      { kind: "route", number: names.route, value: way },
    ]);
  if (!kept || !route) {
    const { amount, ...course } = first;
    const begin = () =>
      parts(
        `shape ${of}`,
        { delay_ms: 0, attack_ms: 0, hold_ms: 0, decay_ms: 300, sustain: 0.5, release_ms: 300, bends: [0, 0, 0], ...course },
        { from: { course: names.course }, times: null, curve: [], to: driven.to, amount },
      );
    return (
      <button
        className="self-start text-[12.5px] text-ink2 hover:underline disabled:opacity-50"
        disabled={!hasRoom(shape, "course") || !hasRoom(shape, "route")}
        onClick={begin}
      >
        + {driven.name} over time
      </button>
    );
  }
  const course = { ...flat(said(kept)), ...live };
  const say = (label: string, changed: Partial<Flat<DrivenCourse>>) =>
    sayParts(shaped, label, [{ kind: "course", number: names.course, value: inRow({ ...flat(said(kept)), ...changed }) }]);
  const hear = (to: Partial<Flat<DrivenCourse>>) =>
    DRIVEN_COURSE.forEach(({ of }) => {
      const value = to[of];
      if (value !== undefined) player.shape(shapesOf(shaped), `course_${of}` as ShapeSetting, value, names.course);
    });
  const timeOf = (number: CourseNumber) =>
    hasRoom(shape, "route")
      ? courseDriven(names.course).find(({ to }) => same(to, { course_time: [names.course, number.of.replace("_ms", "")] }))
      : undefined;
  const acts = (number: CourseNumber) => {
    const time = timeOf(number);
    return (
      time && { onDrive: () => drive(shaped, time), onControl: "strand" in shaped.of[0]!.target ? () => toPanel(shaped, time) : undefined }
    );
  };
  const field = (number: CourseNumber) => (
    <Field
      key={number.of}
      label={number.label}
      value={course[number.of]}
      unit={number.unit}
      onLive={(v) => hear({ [number.of]: fitted(number, v) })}
      onSet={(v) => say(`set ${number.label.toLowerCase()} of ${of}`, { [number.of]: fitted(number, v) })}
      {...acts(number)}
    />
  );
  return (
    <>
      <CourseCurve<Flat<DrivenCourse>>
        course={(frame) => drivenCourseOf(course, frame)}
        dragged={(handle, by, frame) => drivenDraggedBy(flat(said(kept)), handle, by, frame)}
        onLive={(to) => {
          setLive(to);
          hear(to ?? flat(said(kept)));
        }}
        onKeep={(handle, to) => {
          setLive(undefined);
          say(`shape the ${handle.replace("_", "'s ")} of ${of}`, to);
        }}
      />
      <div className="-mb-2 flex justify-end">
        <CourseMenu of="other" course={flat(said(kept))} onUse={(name, to) => say(`give ${of} the course «${name}»`, to)} />
      </div>
      <div className="grid grid-cols-4 gap-3 min-[1180px]:grid-cols-8">
        <Field
          label="Goes by"
          value={route.amount}
          unit={driven.unit}
          onLive={(amount) => player.shape(shapesOf(shaped), "route_amount", amount, names.route)}
          onSet={(amount) =>
            sayRoute(shaped, route, `set how far ${of} goes`, { amount: Math.max(-driven.most, Math.min(driven.most, amount)) })
          }
        />
        {DRIVEN_COURSE.map(field)}
        <button
          className="self-end justify-self-end rounded px-1.5 pb-1.5 text-ink3 hover:text-ink"
          aria-label={`No ${driven.name} over time`}
          onClick={() => removePart(shaped, "course", names.course, `leave ${of} as it is`)}
        >
          ×
        </button>
      </div>
      <Follows shaped={shaped} driven={courseDriven(names.course)} />
    </>
  );
}
