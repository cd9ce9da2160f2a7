"use client";

import { useCallback, useRef } from "react";
import type { Item, ItemQuery } from "@/server/items/contract";
import { rowId } from "./rows";
import { isInTray, useTrayChange } from "./use-tray-change";

/** From which row a range begins, and whether it is chosen or taken out. */
interface Anchor {
  readonly id: number;
  readonly chosen: boolean;
}

/** Of which moment, and of what, the copies are that a list shows. */
const thenOf = ({ asOf, source, volume, set }: ItemQuery) => (asOf === undefined ? {} : { asOf, source, volume, set });

/**
 * Choosing items as in a good file manager: one by one, from the last one touched to another, all that match. A range does what was done to
 * its first item: it is ticked, or unticked.
 */
export function useChoosing(jobId: number, query: ItemQuery) {
  const { change, error } = useTrayChange(jobId);
  const anchor = useRef<Anchor | null>(null);
  /** An item that was only looked at is where the next range begins. */
  const touch = useCallback((item: Item) => {
    anchor.current = { id: rowId(item), chosen: true };
  }, []);
  const several = useCallback(
    (items: readonly Item[], chosen: boolean) => {
      const copies = items.flatMap(({ version }) => version?.copyId ?? []);
      change(query.rows ? { copies, chosen } : { items: items.map(({ id }) => id), ...thenOf(query), chosen });
    },
    [change, query],
  );
  const toggle = useCallback(
    (item: Item) => {
      const chosen = !isInTray(item);
      anchor.current = { id: rowId(item), chosen };
      several([item], chosen);
    },
    [several],
  );
  const extend = useCallback(
    (item: Item) => {
      const from = anchor.current;
      if (!from) {
        anchor.current = { id: rowId(item), chosen: true };
        several([item], true);
      } else change({ matching: query, between: [from.id, rowId(item)], chosen: from.chosen });
    },
    [change, several, query],
  );
  const all = useCallback(() => change({ matching: query, chosen: true }), [change, query]);
  return { touch, toggle, extend, several, all, error };
}
