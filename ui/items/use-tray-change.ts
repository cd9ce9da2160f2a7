"use client";

import { type InfiniteData, useMutation, useQueryClient } from "@tanstack/react-query";
import type { ItemPage } from "@/server/items/contract";
import { tray } from "@/server/tray/contract";
import { write } from "../data/request";
import { keys } from "../data/use-job-data";

interface Change {
  items: number[];
  chosen: boolean;
}

/** Puts items into the tray or takes them out; the list shows it at once. */
export function useTrayChange(jobId: number) {
  const client = useQueryClient();
  const lists = keys.of(jobId, "items");
  return useMutation({
    mutationFn: async (change: Change) => tray.parse(await write("POST", `/api/jobs/${jobId}/tray`, change)),
    onMutate: ({ items, chosen }) => {
      const touched = new Set(items);
      client.setQueriesData<InfiniteData<ItemPage>>({ queryKey: lists }, (data) =>
        data
          ? {
              ...data,
              pages: data.pages.map((page) => ({
                ...page,
                items: page.items.map((item) => (touched.has(item.id) ? { ...item, inTray: chosen } : item)),
              })),
            }
          : data,
      );
    },
    onSuccess: (now) => client.setQueryData(keys.of(jobId, "tray"), now),
    onError: () => client.invalidateQueries({ queryKey: lists }),
  });
}
