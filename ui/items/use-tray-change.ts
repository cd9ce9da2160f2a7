"use client";

import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useCallback, useSyncExternalStore } from "react";
import { type TrayChange, tray } from "@/server/tray/contract";
import { write } from "../data/request";
import { keys } from "../data/use-job-data";
import { pagesKey } from "./use-items";

interface Choosable {
  id: number;
  inTray: boolean;
}

/**
 * What was asked for single items and the fetched data do not say yet. It stands outside the fetched data, so that an answer
 * that was on its way when a box was ticked cannot untick it, and a box shows its tick within the click itself.
 */
const asked = new Map<number, { chosen: boolean }>();
const listeners = new Set<() => void>();
const notify = () => {
  for (const listener of listeners) listener();
};
const subscribe = (listener: () => void) => {
  listeners.add(listener);
  return () => listeners.delete(listener);
};

/** Whether the item is in the tray, as it was last asked for. */
export const isInTray = (item: Choosable): boolean => asked.get(item.id)?.chosen ?? item.inTray;

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
      const mine = "items" in wanted ? wanted.items.map((id) => ({ id, ask: { chosen: wanted.chosen } })) : [];
      for (const { id, ask } of mine) asked.set(id, ask);
      notify();
      const over = () => {
        // A later ask for the same item stays until its own answer is here.
        for (const { id, ask } of mine) if (asked.get(id) === ask) asked.delete(id);
        notify();
      };
      // A failure is reported by `error`; here it only ends the ask.
      mutateAsync(wanted).then(over, over);
    },
    [mutateAsync],
  );
  return { change, isPending, error };
}
