// What the server owns.
import { queryOptions, useQuery } from "@tanstack/react-query";
import { answer, api, type Plan, type Schemas, type TakeView } from "../api/client";

export const shelfQuery = queryOptions({ queryKey: ["shelf"], queryFn: async () => answer(await api.GET("/api/instruments")) });
/** Which effects there are, and what each can be set to. */
export const effectsQuery = queryOptions({
  queryKey: ["effects"],
  queryFn: async () => answer(await api.GET("/api/effects")),
  staleTime: Infinity,
});
const NO_KINDS: Schemas["EffectView"][] = [];
/** The kinds of effects; none until they are there. */
export const useKinds = () => useQuery(effectsQuery).data ?? NO_KINDS;
export const rigsQuery = queryOptions({ queryKey: ["rigs"], queryFn: async () => answer(await api.GET("/api/rigs")), staleTime: Infinity });
export const instrumentQuery = (id: number) =>
  queryOptions({
    queryKey: ["instrument", id],
    queryFn: async () => answer(await api.GET("/api/instruments/{id}", { params: { path: { id } } })),
  });
export const thumbnailsQuery = (id: number) =>
  queryOptions({
    queryKey: ["thumbnails", id],
    queryFn: async () => answer(await api.GET("/api/instruments/{id}/thumbnails", { params: { path: { id } } })),
  });
/** How loud every key of a strand sounds; asked for anew with whatever was kept. */
export const levelsQuery = (id: number, strand: number | undefined, keptAt: string) =>
  queryOptions({
    queryKey: ["levels", id, strand, keptAt],
    queryFn: async () =>
      answer(await api.GET("/api/instruments/{id}/strands/{strand}/levels", { params: { path: { id, strand: strand! } } })),
    enabled: strand !== undefined,
    placeholderData: (previous: Schemas["KeyLevels"][] | undefined) => previous,
  });
/** What is in files that were brought together. */
export const broughtQuery = (set: string) =>
  queryOptions({
    queryKey: ["brought", set],
    queryFn: async () => answer(await api.GET("/api/brought/{set}", { params: { path: { set } } })),
    retry: false,
    staleTime: Infinity,
  });
/** How far what is being taken in of them is. */
export const shareQuery = (set: string) =>
  queryOptions({
    queryKey: ["brought", set, "share"],
    queryFn: async () => answer(await api.GET("/api/brought/{set}/taking", { params: { path: { set } } })),
    refetchInterval: 500,
  });
/** What was given away for good, and what is being made of it. */
export const editionsQuery = (id: number) =>
  queryOptions({
    queryKey: ["exports", id, "editions"],
    queryFn: async () => answer(await api.GET("/api/instruments/{id}/editions", { params: { path: { id } } })),
  });
export const importsQuery = (id: number) =>
  queryOptions({
    queryKey: ["exports", id, "imports"],
    queryFn: async () => answer(await api.GET("/api/instruments/{id}/imports", { params: { path: { id } } })),
  });
/** What is wrong with an instrument; what was not listened to yet is listened to. */
export const findingsQuery = (id: number) =>
  queryOptions({
    queryKey: ["exports", id, "findings"],
    queryFn: async () => answer(await api.GET("/api/instruments/{id}/findings", { params: { path: { id }, query: { again: false } } })),
    placeholderData: (previous: Schemas["FindingsView"] | undefined) => previous,
  });
/** Recordings of an instrument's source, and what both are apart. */
export const besideQuery = (id: number) =>
  queryOptions({
    queryKey: ["exports", id, "beside"],
    queryFn: async () => answer(await api.GET("/api/instruments/{id}/beside", { params: { path: { id } } })),
    placeholderData: (previous: Schemas["BesideView"][] | undefined) => previous,
  });
/** A take beside another, as both are treated. */
export const takeBesideQuery = (take: TakeView, other: TakeView) =>
  queryOptions({
    queryKey: ["take beside", take.id, other.id, take.treatment, other.treatment],
    queryFn: async () => answer(await api.GET("/api/takes/{id}/beside/{other}", { params: { path: { id: take.id, other: other.id } } })),
  });
/** What a plan will cost and what follows for its passes. */
export const costQuery = (plan: Plan | undefined) =>
  queryOptions({
    queryKey: ["cost", plan],
    queryFn: async () => answer(await api.POST("/api/plan/cost", { body: plan! })),
    enabled: plan !== undefined,
    placeholderData: (previous: Schemas["Cost"] | undefined) => previous,
    retry: false,
  });
/** Jobs that make or render takes, the newest first. */
export const makingsQuery = (id: number) =>
  queryOptions({
    queryKey: ["exports", id, "makings"],
    queryFn: async () => answer(await api.GET("/api/instruments/{id}/makings", { params: { path: { id } } })),
  });
export const patternsQuery = queryOptions({ queryKey: ["patterns"], queryFn: async () => answer(await api.GET("/api/patterns")) });
/** What laying parts of a pattern under an instrument would do to it as it stands. */
export const fitQuery = (view: Pick<Schemas["InstrumentView"], "id" | "kept_at">, pattern: number, shares: Schemas["PatternShare"][]) =>
  queryOptions({
    queryKey: ["fit", view.id, view.kept_at, pattern, shares],
    queryFn: async () =>
      answer(
        await api.POST("/api/instruments/{id}/patterns/{pattern}/fit", {
          params: { path: { id: view.id, pattern } },
          body: { shares },
        }),
      ),
    placeholderData: (previous: Schemas["FitView"] | undefined) => previous,
  });
/** What is kept beside the instruments, of a kind. */
export const keptQuery = (kind: Schemas["KeptKind"]) =>
  queryOptions({
    queryKey: ["kept", kind],
    queryFn: async () => answer(await api.GET("/api/kept/{kind}", { params: { path: { kind } } })),
  });
export const exportsQuery = (id: number) =>
  queryOptions({
    queryKey: ["exports", id],
    queryFn: async () => answer(await api.GET("/api/instruments/{id}/exports", { params: { path: { id } } })),
  });
