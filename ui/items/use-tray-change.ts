"use client";

import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useCallback, useSyncExternalStore } from "react";
import type { Item } from "@/server/items/contract";
import { type TrayChange, tray } from "@/server/tray/contract";
import { write } from "../data/request";
import { keys } from "../data/use-job-data";
import { pagesKey } from "./use-items";

type Choosable = Pick<Item, "id" | "inTray" | "version">;

/** What a change of the tray asks for single ones of: items, whichever of their copies is the best, or single copies. */
const askedFor = ({ id, version }: Pick<Item, "id" | "version">) => (version ? `copy ${version.copyId}` : `item ${id}`);

/**
 * What was asked for single items and the fetched data do not say yet. It stands outside the fetched data, so that an answer
 * that was on its way when a box was ticked cannot untick it, and a box shows its tick within the click itself.
 */
const asked = new Map<string, { chosen: boolean }>();
const listeners = new Set<() => void>();
const notify = () => {
  for (const listener of listeners) listener();
};
const subscribe = (listener: () => void) => {
  listeners.add(listener);
  return () => listeners.delete(listener);
};

/** Whether the item, or the version, is in the tray, as it was last asked for. */
export const isInTray = (item: Choosable): boolean => asked.get(askedFor(item))?.chosen ?? item.inTray;

export function useInTray(item: Choosable): boolean {
  const now = () => isInTray(item);
  return useSyncExternalStore(subscribe, now, now);
}

/** Puts items into the tray or takes them out; single ones show at once, and go back when the change fails. */
export function useTrayChange(jobId: number) {
  const client = useQueryClient();
  const { mutateAsync, isPending, error } = useMutation({
    // One after the other: the last thing asked for is what stays.
    scope: { id: `tray of job ${jobId}` },
    mutationFn: async (change: TrayChange) => tray.parse(await write("POST", `/api/jobs/${jobId}/tray`, change)),
    onSuccess: (now) => client.setQueryData(keys.of(jobId, "tray"), now),
    onSettled: () =>
      Promise.all([
        client.invalidateQueries({ queryKey: pagesKey(jobId) }),
        client.invalidateQueries({ queryKey: keys.of(jobId, "item") }),
      ]),
  });
  const change = useCallback(
    (wanted: TrayChange) => {
      const single =
        "items" in wanted ? wanted.items.map((id) => `item ${id}`) : "copies" in wanted ? wanted.copies.map((id) => `copy ${id}`) : [];
      const mine = single.map((key) => ({ key, ask: { chosen: wanted.chosen } }));
      for (const { key, ask } of mine) asked.set(key, ask);
      notify();
      const over = () => {
        // A later ask for the same item stays until its own answer is here.
        for (const { key, ask } of mine) if (asked.get(key) === ask) asked.delete(key);
        notify();
      };
      // A failure is reported by `error`; here it only ends the ask.
      mutateAsync(wanted).then(over, over);
    },
    [mutateAsync],
  );
  return { change, isPending, error };
}
