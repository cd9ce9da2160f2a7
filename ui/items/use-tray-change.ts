"use client";

import { useMutation, useQueryClient } from "@tanstack/react-query";
import type { ItemPage } from "@/server/items/contract";
import { type TrayChange, tray } from "@/server/tray/contract";
import { write } from "../data/request";
import { keys } from "../data/use-job-data";
import { pagesKey } from "./use-items";

/** Puts items into the tray or takes them out; single ones show in the list at once. */
export function useTrayChange(jobId: number) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: async (change: TrayChange) => tray.parse(await write("POST", `/api/jobs/${jobId}/tray`, change)),
    onMutate: (change) => {
      if (!("items" in change)) return;
      const touched = new Set(change.items);
      client.setQueriesData<ItemPage>({ queryKey: pagesKey(jobId) }, (page) =>
        page ? { ...page, items: page.items.map((item) => (touched.has(item.id) ? { ...item, inTray: change.chosen } : item)) } : page,
      );
    },
    onSuccess: (now) => client.setQueryData(keys.of(jobId, "tray"), now),
    onSettled: () =>
      Promise.all([
        client.invalidateQueries({ queryKey: pagesKey(jobId) }),
        client.invalidateQueries({ queryKey: keys.of(jobId, "item") }),
      ]),
  });
}
