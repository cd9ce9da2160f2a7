import { keepPreviousData, useQueries } from "@tanstack/react-query";
import type { z } from "zod";
import { type EntriesPage, entriesPage, type RecordsPage, ROWS_AT_ONCE, recordsPage } from "@/server/records/contract";
import { read } from "../data/request";

/** The first and the last row in sight. */
export interface Sight {
  readonly first: number;
  readonly last: number;
}

export interface Pages<P> {
  /** The first page: it carries the tables and the counts. */
  readonly head: P | undefined;
  readonly error: Error | null;
  readonly pageOf: (index: number) => P | undefined;
}

/** What is still read is asked for again after this. Milliseconds. */
export const ASK_AGAIN = 150;

/** The pages of rows that are in sight, and the first one always. */
function usePages<P>(
  path: string | null,
  query: Readonly<Record<string, string>>,
  contract: z.ZodType<P>,
  isWhole: (page: P) => boolean,
  { first, last }: Sight,
): Pages<P> {
  const pages = new Set([0, Math.floor(first / ROWS_AT_ONCE), Math.floor(last / ROWS_AT_ONCE)]);
  const found = useQueries({
    queries: [...pages].map((page) => ({
      queryKey: ["records", path, query, page],
      queryFn: ({ signal }: { signal: AbortSignal }) =>
        read(`${path}?${new URLSearchParams({ ...query, from: String(page * ROWS_AT_ONCE) })}`, contract, signal),
      enabled: path !== null,
      staleTime: ({ state }: { state: { data: P | undefined } }) => (state.data && !isWhole(state.data) ? 0 : Number.POSITIVE_INFINITY),
      refetchInterval: ({ state }: { state: { data: P | undefined } }) => (state.data && !isWhole(state.data) ? ASK_AGAIN : false),
      ...(page === 0 ? { placeholderData: keepPreviousData } : {}),
      retry: false,
    })),
  });
  const byPage = new Map([...pages].map((page, i) => [page, found[i]?.data as P | undefined]));
  return {
    head: byPage.get(0),
    error: found.find(({ error }) => error)?.error ?? null,
    pageOf: (index) => byPage.get(Math.floor(index / ROWS_AT_ONCE)),
  };
}

export interface Wanted {
  readonly copyId: number;
  /** By its name; empty: the largest. */
  readonly table: string;
  readonly find: string;
  readonly only: "all" | "live" | "deleted";
}

/** Rows of a table of a database. */
export function useRecords({ copyId, table, ...rest }: Wanted, sight: Sight) {
  const { pageOf, ...pages } = usePages<RecordsPage>(
    `/api/copies/${copyId}/records`,
    { ...rest, table },
    recordsPage,
    ({ reading }) => reading === null,
    sight,
  );
  return { ...pages, rowAt: (index: number) => pageOf(index)?.rows[index % ROWS_AT_ONCE] };
}

/** What of a database is looked at as messages, visits and the like; every field as it stands in the address. */
export type WantedEntries = Readonly<Record<"kind" | "talk" | "who" | "find" | "only" | "since" | "until" | "with", string>>;

/** Leaves out what is not asked for: a kind that is none would be refused. */
export const entriesSearch = (wanted: WantedEntries) => Object.fromEntries(Object.entries(wanted).filter(([, value]) => value !== ""));

/** Messages, visits and the like of a database. */
export function useEntries(copyId: number, wanted: WantedEntries, sight: Sight) {
  const path = `/api/copies/${copyId}/records/entries`;
  const { pageOf, ...pages } = usePages<EntriesPage>(path, entriesSearch(wanted), entriesPage, ({ working }) => working === null, sight);
  return { ...pages, entryAt: (index: number) => pageOf(index)?.entries[index % ROWS_AT_ONCE] };
}
