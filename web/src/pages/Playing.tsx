// An instrument's panel and keys alone, in a window of their own.
import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { useEffect } from "react";
import { lookAt } from "../api/live";
import type { Whereabouts } from "../model/steps";
import { PlayingBoard } from "../parts/PlayingBoard";
import { instrumentQuery, useKinds } from "../state/queries";

export function Playing() {
  const params: Whereabouts = useParams({ strict: false });
  const id = Number(params.id);
  const query = useQuery(instrumentQuery(id));
  const kinds = useKinds();
  useEffect(() => {
    lookAt(id);
    return () => lookAt(undefined);
  }, [id]);
  if (query.isError && !query.data) return <p className="p-6 text-mark">{query.error.message}</p>;
  if (!query.data) return <p className="p-6 text-ink3">Opening…</p>;
  return (
    <PlayingBoard
      view={query.data}
      kinds={kinds}
      name={<h1 className="mr-2 min-w-0 truncate text-[15px] font-semibold">{query.data.name}</h1>}
      end={
        <Link to="/instruments/$id/$step" params={{ id: String(id), step: "panel" }} className="button">
          Arrange
        </Link>
      }
      bare="This instrument has no panel yet: it is laid out in the step Panel."
    />
  );
}
