// What is kept on the server beside the instruments, for all pages: shapes under a name, how loud the shelf is meant to be.
import { useQuery } from "@tanstack/react-query";
import { answer, api, type Schemas } from "../api/client";
import { queries } from "./client";
import { keptQuery } from "./queries";

type Kind = Schemas["KeptKind"];

/** One of the same name is this one from now on. */
export async function keep(kind: Kind, name: string, said: unknown): Promise<void> {
  const params = { path: { kind, name } };
  answer(await api.PUT("/api/kept/{kind}/{name}", { params, body: said as never }));
  await queries.invalidateQueries({ queryKey: keptQuery(kind).queryKey });
}

export async function forget(kind: Kind, name: string): Promise<void> {
  answer(await api.DELETE("/api/kept/{kind}/{name}", { params: { path: { kind, name } } }));
  await queries.invalidateQueries({ queryKey: keptQuery(kind).queryKey });
}

/** Shapes and the shelf's loudness that an earlier Ladder kept in this browser go to where all are kept; what is there by that name stays. */
export async function bringOver(): Promise<void> {
  const kept = (name: string): unknown => (JSON.parse(localStorage.getItem(name) ?? "null") as { state?: unknown } | null)?.state;
  const shapes = (kept(OLD_SHAPES) as { kept?: { name: string }[] } | undefined)?.kept;
  if (shapes) {
    const there = await queries.fetchQuery(keptQuery("shape"));
    const fresh = shapes.filter(({ name }) => !there.some((one) => one.name === name));
    for (const shape of fresh) await keep("shape", shape.name, shape);
    localStorage.removeItem(OLD_SHAPES);
  }
  const loudness = (kept("ladder-settings") as { shelfLufs?: number } | undefined)?.shelfLufs;
  if (loudness !== undefined && loudness !== AT_FIRST_LUFS) {
    const there = await queries.fetchQuery(keptQuery("shelf"));
    if (there.length === 0) await setShelfLufs(loudness);
  }
}

const OLD_SHAPES = "ladder-shapes";

/** How loud the instruments of the shelf are meant to be: one key, struck at 100, in LUFS. */
const LOUDNESS = "loudness_lufs";
/** Of programmes that are broadcast (EBU R 128); here it is of a key. */
const AT_FIRST_LUFS = -23;

export function useShelfLufs(): number {
  const said = useQuery(keptQuery("shelf")).data?.find(({ name }) => name === LOUDNESS)?.said;
  return typeof said === "number" ? said : AT_FIRST_LUFS;
}

export const setShelfLufs = (lufs: number): Promise<void> => keep("shelf", LOUDNESS, Math.min(-6, Math.max(-60, lufs)));
