// What was chosen of files that others made is taken in, one after another, and can be stopped.
import { useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { answer, api, type Schemas } from "../api/client";

export type Offered = Schemas["Offered"];

/** What an instrument of a set is told by. */
export const nameOf = (of: Offered) => `${of.file} ${of.place ?? ""}`;

export interface Taking {
  /** What is on its way. */
  name: string;
  done: number;
  of: number;
}

export function useTaking(set: string) {
  const queries = useQueryClient();
  const [taking, setTaking] = useState<Taking | undefined>();
  /** What was taken in, by its name here: the instrument that it became. */
  const [there, setThere] = useState<Record<string, number>>({});
  const stopped = useRef(false);

  /** One step for each; what a step gives is gathered, as far as it came. */
  const oneByOne = async <T, R>(all: T[], name: (of: T) => string, step: (of: T) => Promise<R | undefined>): Promise<R[]> => {
    stopped.current = false;
    const made: R[] = [];
    try {
      for (const [n, of] of all.entries()) {
        if (stopped.current) break;
        setTaking({ name: name(of), done: n, of: all.length });
        const one = await step(of);
        if (one !== undefined) made.push(one);
      }
    } finally {
      setTaking(undefined);
      await queries.invalidateQueries({ queryKey: ["shelf"] });
    }
    return made;
  };

  /** The instruments that they became; whether it was stopped before the end. */
  const takeIn = async (all: Offered[]) => {
    const made = await oneByOne(
      all,
      (of) => of.name || of.file,
      async (of) => {
        const body = { file: of.file, place: of.place };
        const outcome = await api.POST("/api/brought/{set}/taking", { params: { path: { set } }, body });
        if (stopped.current && outcome.error) return undefined;
        const { id } = answer(outcome);
        setThere((before) => ({ ...before, [nameOf(of)]: id }));
        return id;
      },
    );
    return { made, cancelled: stopped.current };
  };

  /** Recordings alone wait at a new instrument from then on; which, and what was left aside. */
  const bringAudio = async (audio: string[]) => {
    const { plan } = answer(await api.GET("/api/plan/offer", { params: { query: { kind: "sustained", how: "files", rig: "page" } } }));
    const { id } = answer(await api.POST("/api/instruments", { body: { name: "New instrument", plan } }));
    const aside = await oneByOne(
      audio,
      (name) => name,
      async (name) => {
        const params = { path: { set, instrument: id }, query: { name } };
        return (await api.POST("/api/brought/{set}/to/{instrument}", { params })).error?.detail;
      },
    );
    return { id, aside };
  };

  const cancel = () => {
    stopped.current = true;
    void api.DELETE("/api/brought/{set}/taking", { params: { path: { set } } });
  };
  return { taking, there, takeIn, bringAudio, cancel };
}
