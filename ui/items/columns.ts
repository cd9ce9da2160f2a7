"use client";

import { useCallback, useEffect, useState } from "react";
import type { Sort } from "@/server/items/contract";

export const COLUMNS = ["ribbon", "changed", "size", "condition", "kind", "folder", "pixels", "taken"] as const;
export type Column = (typeof COLUMNS)[number];

export const COLUMN_FACTS: Record<Column, { words: string; width: number; sort?: Sort; right?: boolean }> = {
  ribbon: { words: "Copies over time", width: 170 },
  changed: { words: "Changed", width: 92, sort: "changed" },
  size: { words: "Size", width: 76, sort: "size", right: true },
  condition: { words: "Best copy", width: 112, sort: "condition" },
  kind: { words: "Kind", width: 96 },
  folder: { words: "Folder", width: 200 },
  pixels: { words: "Pixels", width: 96, right: true },
  taken: { words: "Taken", width: 92 },
};

export const NARROWEST = 48;
const WIDEST = 600;
const STORE = "compass-item-columns";

export interface Columns {
  /** Shown ones, in order. */
  readonly shown: readonly Column[];
  readonly widths: Readonly<Record<Column, number>>;
}

const DEFAULT: Columns = {
  shown: ["ribbon", "size", "condition"],
  widths: Object.fromEntries(COLUMNS.map((column) => [column, COLUMN_FACTS[column].width])) as Record<Column, number>,
};

/** On a wide window the time axis takes a share of the room, unless it was given a width. */
const roomyRibbon = (windowWidth: number) =>
  Math.round(Math.min(WIDEST, COLUMN_FACTS.ribbon.width + Math.max(0, windowWidth - 1400) * 0.35));

/** What was remembered, as far as it makes sense. */
export function columnsFrom(stored: string | null, windowWidth = 0): Columns {
  const usual = { ...DEFAULT, widths: { ...DEFAULT.widths, ribbon: roomyRibbon(windowWidth) } };
  try {
    const found = JSON.parse(stored ?? "") as Partial<Columns>;
    const shown = (found.shown ?? []).filter((column, index, all) => COLUMNS.includes(column) && all.indexOf(column) === index);
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

/** The columns of the list, remembered in this browser. */
export function useColumns() {
  const [columns, setColumns] = useState<Columns>(DEFAULT);
  useEffect(() => setColumns(columnsFrom(localStorage.getItem(STORE), window.innerWidth)), []);
  const store = useCallback((change: (present: Columns) => Columns) => {
    setColumns((present) => {
      const next = change(present);
      // A width nobody has set stays free to follow the window.
      const { ribbon, ...others } = next.widths;
      const widths = ribbon === roomyRibbon(window.innerWidth) ? others : next.widths;
      localStorage.setItem(STORE, JSON.stringify({ ...next, widths }));
      return next;
    });
  }, []);
  return {
    columns,
    toggle: (column: Column) =>
      store((present) => ({
        ...present,
        shown: present.shown.includes(column) ? present.shown.filter((each) => each !== column) : [...present.shown, column],
      })),
    move: (column: Column, step: number) =>
      store((present) => {
        const shown = [...present.shown];
        const at = shown.indexOf(column);
        const to = Math.max(0, Math.min(shown.length - 1, at + step));
        shown.splice(at, 1);
        shown.splice(to, 0, column);
        return { ...present, shown };
      }),
    resize: (column: Column, width: number) =>
      store((present) => ({
        ...present,
        widths: { ...present.widths, [column]: Math.max(NARROWEST, Math.min(WIDEST, Math.round(width))) },
      })),
  };
}
