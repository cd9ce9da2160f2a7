import { type QueryCacheNotifyEvent, QueryClient } from "@tanstack/react-query";

/**
 * Fetches once more what changed while it was fetched for the first time. The library joins an invalidation to a first fetch under way and takes its
 * answer for fresh, though the server may have read it before the change; where no further change follows, the old state would stay on the screen.
 * @returns what ends it
 */
function refetchOvertaken(client: QueryClient): () => void {
  const overtaken = new Set<string>();
  return client.getQueryCache().subscribe((event: QueryCacheNotifyEvent) => {
    const { queryHash, queryKey, state } = event.query;
    if (event.type === "removed") overtaken.delete(queryHash);
    if (event.type !== "updated") return;
    const { type } = event.action;
    if (type === "invalidate" && state.fetchStatus !== "idle" && state.data === undefined) overtaken.add(queryHash);
    // After this turn: the fetch that just ended has to be put away first.
    if (type === "success" && overtaken.delete(queryHash)) setTimeout(() => client.invalidateQueries({ queryKey, exact: true }));
  });
}

/** Makes the store of fetched data of a page. */
export function makeQueryClient(): QueryClient {
  const client = new QueryClient({ defaultOptions: { queries: { retry: 1, refetchOnWindowFocus: true, staleTime: 2_000 } } });
  refetchOvertaken(client);
  return client;
}
