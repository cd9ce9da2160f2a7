import { keepPreviousData, useQueries } from "@tanstack/react-query";
import { type RecordsPage, ROWS_AT_ONCE, recordsPage } from "@/server/records/contract";
import { read } from "../data/request";

export interface Wanted {
  readonly copyId: number;
  readonly table: number;
  readonly find: string;
  readonly only: "all" | "live" | "deleted";
}

/** The pages of a database's rows that are in sight; the first always, because it carries the tables and the counts. */
export function useRecords(wanted: Wanted, first: number, last: number) {
  const pages = new Set([0, Math.floor(first / ROWS_AT_ONCE), Math.floor(last / ROWS_AT_ONCE)]);
  const { copyId, ...query } = wanted;
  const found = useQueries({
    queries: [...pages].map((page) => {
      const search = new URLSearchParams({ ...query, table: String(query.table), from: String(page * ROWS_AT_ONCE) });
      return {
        queryKey: ["copy", copyId, "records", query, page],
        queryFn: ({ signal }: { signal: AbortSignal }) => read(`/api/copies/${copyId}/records?${search}`, recordsPage, signal),
        staleTime: Number.POSITIVE_INFINITY,
        placeholderData: page === 0 ? keepPreviousData : undefined,
        retry: false,
      };
    }),
  });
  const byPage = new Map([...pages].map((page, i) => [page, found[i]?.data]));
  const head: RecordsPage | undefined = byPage.get(0);
  return {
    head,
    error: found.find(({ error }) => error)?.error ?? null,
    rowAt: (index: number) => byPage.get(Math.floor(index / ROWS_AT_ONCE))?.rows[index % ROWS_AT_ONCE],
  };
}
