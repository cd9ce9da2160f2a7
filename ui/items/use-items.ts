"use client";

import { keepPreviousData, useQueries, useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import {
  facets,
  type Item,
  type ItemQuery,
  itemDetail,
  itemPage,
  itemQuery,
  moments,
  PAGE,
  position,
  type Scope,
  sinceFacet,
  spine,
} from "@/server/items/contract";
import { read } from "../data/request";
import { useAddress } from "../data/use-address";
import { keys } from "../data/use-job-data";
import { copiesLeftOut } from "./rows";

/** The ways of narrowing, as they stand in the address. */
export const NARROWING = [
  "q",
  "kind",
  "place",
  "condition",
  "folder",
  "year",
  "size",
  "originals",
  "source",
  "volume",
  "home",
  "user",
  "standing",
  "deleted",
  "created",
  "type",
  "rows",
  "asOf",
  "since",
  "set",
] as const;
const NAMES = [...NARROWING, "show", "sort", "order"] as const;

/** What the address says the list shows; what is not valid in it is left out. */
export function useItemQuery(): ItemQuery {
  const [address] = useAddress();
  const text = NAMES.map((name) => address.get(name) ?? "").join("\u0000");
  return useMemo(() => {
    const values = text.split("\u0000");
    const query: Record<string, unknown> = {};
    for (const [index, name] of NAMES.entries()) {
      const value = values[index];
      if (value && itemQuery.shape[name].safeParse(value).success) query[name] = value;
    }
    // A list of versions is of all moments.
    if (query.asOf) delete query.rows;
    return itemQuery.parse(query);
  }, [text]);
}

function search(query: Partial<ItemQuery>): string {
  const words = new URLSearchParams();
  for (const [name, value] of Object.entries(query)) if (value !== undefined && value !== "") words.set(name, String(value));
  return words.toString();
}

export function useFacets(jobId: number, { sort: _, order: __, limit: ___, ...filter }: ItemQuery) {
  return useQuery({
    queryKey: [...keys.of(jobId, "facets"), filter],
    queryFn: ({ signal }) => read(`/api/jobs/${jobId}/facets?${search(filter)}`, facets, signal),
    placeholderData: keepPreviousData,
  });
}

/** How many of the items of a list as of a moment became what; nothing where it shows none. */
export function useSinceFacet(jobId: number, { sort: _, order: __, limit: ___, ...filter }: ItemQuery) {
  return useQuery({
    queryKey: [...keys.of(jobId, "facets"), "since", filter],
    queryFn: ({ signal }) => read(`/api/jobs/${jobId}/facets/since?${search(filter)}`, sinceFacet, signal),
    enabled: filter.asOf !== undefined,
    placeholderData: keepPreviousData,
  });
}

/** The key under which the pages of all lists of a job are filed. */
export const pagesKey = (jobId: number) => [...keys.of(jobId, "items"), "page"] as const;

export interface Items {
  readonly count: number;
  readonly counted: boolean;
  readonly error: Error | null;
  /** The item of a row; undefined while its page is on its way. */
  at(index: number): Item | undefined;
}

/**
 * The list, of which only the pages in sight are fetched. The first comes at once; any other can be fetched directly
 * as soon as the spine of the list is there.
 */
export function useItems(jobId: number, query: ItemQuery, first: number, last: number): Items {
  const filed = search(query);
  const counts = useQuery({
    queryKey: [...keys.of(jobId, "spine"), filed],
    queryFn: ({ signal }) => read(`/api/jobs/${jobId}/items/spine?${filed}`, spine, signal),
  });
  const starts = counts.data?.starts ?? [];
  const from = Math.max(0, Math.floor(first / PAGE));
  const wanted = Array.from({ length: Math.max(1, Math.floor(last / PAGE) - from + 1) }, (_, index) => from + index);
  const pages = useQueries({
    queries: wanted.map((page) => {
      const after = page === 0 ? "" : starts[page - 1];
      return {
        queryKey: [...pagesKey(jobId), filed, page, after],
        queryFn: ({ signal }: { signal: AbortSignal }) =>
          read(`/api/jobs/${jobId}/items?${filed}${after ? `&after=${after}` : ""}`, itemPage, signal),
        enabled: after !== undefined,
        staleTime: 10_000,
      };
    }),
  });
  const byPage = new Map(wanted.map((page, index) => [page, pages[index]?.data]));
  const firstPage = byPage.get(0);
  return {
    count: counts.data?.count ?? firstPage?.items.length ?? 0,
    counted: counts.data !== undefined,
    error: counts.error ?? pages.find((page) => page.error)?.error ?? null,
    at: (index) => byPage.get(Math.floor(index / PAGE))?.items[index % PAGE],
  };
}

/** Where a row stands in the list, by what distinguishes it; null: the list is narrowed so that it is not in it; undefined: not known yet. */
export function usePosition(jobId: number, query: ItemQuery, row: number | null): number | null | undefined {
  const filed = search(query);
  const { data } = useQuery({
    queryKey: [...keys.of(jobId, "position"), filed, row],
    queryFn: ({ signal }) => read(`/api/jobs/${jobId}/items/position?${filed}&row=${row}`, position, signal),
    enabled: row !== null,
    staleTime: 60_000,
  });
  return row === null ? undefined : data?.index;
}

/** The moments at which something changed in the snapshots and backup sets of a list, oldest first. UTC milliseconds. */
export function useMoments(jobId: number, { source, volume, set }: Scope): readonly { at: number; count: number }[] {
  const of = search({ source, volume, set });
  const { data } = useQuery({
    queryKey: [...keys.of(jobId, "moments"), of],
    queryFn: ({ signal }) => read(`/api/jobs/${jobId}/moments?${of}`, moments, signal),
    placeholderData: keepPreviousData,
    staleTime: 10_000,
  });
  return data?.moments ?? NO_MOMENTS;
}
const NO_MOMENTS: readonly { at: number; count: number }[] = [];

/**
 * Reads an item with its copies.
 * @param named copies that must be among them, as the address names them: an item of very many comes with its newest ones otherwise
 * @returns `reading` while a named copy is still to come
 */
export function useItemDetail(jobId: number, itemId: number | null, named: readonly (string | null)[] = []) {
  const key = [...keys.of(jobId, "item"), itemId];
  const item = useQuery({
    queryKey: key,
    queryFn: () => read(`/api/items/${itemId}`, itemDetail),
    enabled: itemId !== null,
    placeholderData: keepPreviousData,
  });
  const left = item.data?.id === itemId ? copiesLeftOut(item.data, named) : [];
  const further = useQuery({
    queryKey: [...key, ...left],
    queryFn: () => read(`/api/items/${itemId}?${left.map((id) => `copy=${id}`).join("&")}`, itemDetail),
    enabled: left.length > 0,
  });
  return {
    data: left.length > 0 ? (further.data ?? item.data) : item.data,
    error: item.error ?? further.error,
    reading: left.length > 0 && further.isPending && !further.error,
  };
}
