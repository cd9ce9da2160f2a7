"use client";

import { useCallback, useEffect, useState } from "react";
import type { ItemQuery, Sort } from "@/server/items/contract";

export const COLUMNS = [
  "ribbon",
  "changed",
  "size",
  "condition",
  "kept",
  "kind",
  "type",
  "folder",
  "volume",
  "standing",
  "created",
  "deleted",
  "pixels",
  "taken",
] as const;
export type Column = (typeof COLUMNS)[number];

/** Whether the rows are items or versions: each has its own columns. */
export type ListOf = "items" | "versions";
export const listOf = ({ rows }: Pick<ItemQuery, "rows">): ListOf => (rows ? "versions" : "items");
/** The columns a list can show. */
export const columnsOf = (list: ListOf): readonly Column[] => COLUMNS.filter((column) => list === "versions" || column !== "kept");

export const COLUMN_FACTS: Record<Column, { words: string; width: number; sort?: Sort; right?: boolean }> = {
  ribbon: { words: "Copies over time", width: 170 },
  changed: { words: "Changed", width: 92, sort: "changed" },
  size: { words: "Size", width: 76, sort: "size", right: true },
  condition: { words: "Best copy", width: 112, sort: "condition" },
  kept: { words: "Kept since", width: 142 },
  kind: { words: "Kind", width: 96 },
  type: { words: "Type", width: 64 },
  folder: { words: "Folder", width: 200 },
  volume: { words: "Volume", width: 120 },
  standing: { words: "Live or deleted", width: 104 },
  created: { words: "Created", width: 92 },
  deleted: { words: "Deleted", width: 92 },
  pixels: { words: "Pixels", width: 96, right: true },
  taken: { words: "Taken", width: 92 },
};

export const NARROWEST = 48;
const WIDEST = 600;
const STORES: Readonly<Record<ListOf, string>> = { items: "compass-item-columns", versions: "compass-version-columns" };

export interface Columns {
  /** Shown ones, in order. */
  readonly shown: readonly Column[];
  readonly widths: Readonly<Record<Column, number>>;
}

const SHOWN: Readonly<Record<ListOf, readonly Column[]>> = {
  items: ["ribbon", "size", "condition"],
  versions: ["changed", "kept", "size", "condition"],
};
const DEFAULT: Columns = {
  shown: SHOWN.items,
  widths: Object.fromEntries(COLUMNS.map((column) => [column, COLUMN_FACTS[column].width])) as Record<Column, number>,
};

/** On a wide window the time axis takes a share of the room, unless it was given a width. */
const roomyRibbon = (windowWidth: number) =>
  Math.round(Math.min(WIDEST, COLUMN_FACTS.ribbon.width + Math.max(0, windowWidth - 1400) * 0.35));

/** What was remembered, as far as it makes sense. */
export function columnsFrom(stored: string | null, windowWidth = 0, list: ListOf = "items"): Columns {
  const usual = { shown: SHOWN[list], widths: { ...DEFAULT.widths, ribbon: roomyRibbon(windowWidth) } };
  const allowed = columnsOf(list);
  try {
    const found = JSON.parse(stored ?? "") as Partial<Columns>;
    const shown = (found.shown ?? []).filter((column, index, all) => allowed.includes(column) && all.indexOf(column) === index);
    const widths = { ...usual.widths };
    for (const column of COLUMNS) {
      const width = Number(found.widths?.[column]);
      if (width >= NARROWEST && width <= WIDEST) widths[column] = width;
    }
    return { shown, widths };
  } catch {
    return usual;
  }
}

/** Shows a column at the end, or hides it. */
export const toggled = ({ shown, widths }: Columns, column: Column): Columns => ({
  widths,
  shown: shown.includes(column) ? shown.filter((each) => each !== column) : [...shown, column],
});

/** Moves a shown column by so many places, as far as there are any. */
export function moved({ shown, widths }: Columns, column: Column, step: number): Columns {
  const at = shown.indexOf(column);
  if (at < 0) return { shown, widths };
  const others = shown.filter((each) => each !== column);
  others.splice(Math.max(0, Math.min(others.length, at + step)), 0, column);
  return { shown: others, widths };
}

/** Gives a column a width in pixels, within bounds. */
export const resized = ({ shown, widths }: Columns, column: Column, width: number): Columns => ({
  shown,
  widths: { ...widths, [column]: Math.max(NARROWEST, Math.min(WIDEST, Math.round(width))) },
});

/** What is remembered: a width of the time axis that nobody has set stays free to follow the window. */
export function storedColumns({ shown, widths }: Columns, windowWidth: number): string {
  const { ribbon, ...others } = widths;
  return JSON.stringify({ shown, widths: ribbon === roomyRibbon(windowWidth) ? others : widths });
}

/** The columns of a list, remembered in this browser. */
export function useColumns(list: ListOf) {
  const [columns, setColumns] = useState<Columns>({ ...DEFAULT, shown: SHOWN[list] });
  useEffect(() => setColumns(columnsFrom(localStorage.getItem(STORES[list]), window.innerWidth, list)), [list]);
  const store = useCallback(
    (change: (present: Columns) => Columns) => {
      setColumns((present) => {
        const next = change(present);
        localStorage.setItem(STORES[list], storedColumns(next, window.innerWidth));
        return next;
      });
    },
    [list],
  );
  return {
    columns,
    toggle: (column: Column) => store((present) => toggled(present, column)),
    move: (column: Column, step: number) => store((present) => moved(present, column, step)),
    resize: (column: Column, width: number) => store((present) => resized(present, column, width)),
  };
}
