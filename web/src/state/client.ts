// The one cache of what the server owns.
import { QueryCache, QueryClient } from "@tanstack/react-query";
import { sayError } from "./view";

export const queries = new QueryClient({
  defaultOptions: { queries: { retry: 1, refetchOnWindowFocus: false } },
  // Whatever could not be read is said; the page itself shows why it stays empty.
  queryCache: new QueryCache({
    onError: (error, query) => {
      if (query.queryKey[0] !== "instrument" || query.state.data !== undefined) sayError(error);
    },
  }),
});
