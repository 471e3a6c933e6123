// The one cache of what the server owns.
import { QueryClient } from "@tanstack/react-query";

export const queries = new QueryClient({ defaultOptions: { queries: { retry: 1, refetchOnWindowFocus: false } } });
