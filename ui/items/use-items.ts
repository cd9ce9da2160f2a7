"use client";

import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { facets, itemDetail, itemPage } from "@/server/items/contract";
import { read } from "../data/request";
import { keys } from "../data/use-job-data";

export interface Filter {
  readonly q: string;
  readonly show: "lost" | "all";
  readonly kind: string | null;
}

function search(filter: Filter, more: Record<string, string> = {}): string {
  const words = new URLSearchParams({ show: filter.show, ...more });
  if (filter.q) words.set("q", filter.q);
  if (filter.kind) words.set("kind", filter.kind);
  return words.toString();
}

/** The list, page after page as it is scrolled. */
export function useItems(jobId: number, filter: Filter) {
  return useInfiniteQuery({
    queryKey: [...keys.of(jobId, "items"), filter],
    queryFn: ({ pageParam }) => read(`/api/jobs/${jobId}/items?${search(filter, pageParam ? { after: pageParam } : {})}`, itemPage),
    initialPageParam: "",
    getNextPageParam: (page) => page.next,
    placeholderData: keepPreviousData,
  });
}

export function useFacets(jobId: number, filter: Filter) {
  return useQuery({
    queryKey: [...keys.of(jobId, "facets"), filter],
    queryFn: () => read(`/api/jobs/${jobId}/facets?${search(filter)}`, facets),
    placeholderData: keepPreviousData,
  });
}

export function useItemDetail(itemId: number | null) {
  return useQuery({
    queryKey: ["item", itemId],
    queryFn: () => read(`/api/items/${itemId}`, itemDetail),
    enabled: itemId !== null,
    placeholderData: keepPreviousData,
  });
}
