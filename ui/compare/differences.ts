import { diffLines } from "diff";
import type { TablesPreview } from "@/server/previews/contract";

/** Comparing takes longer than anybody waits beyond this many edits; then the rest is shown as changed. */
const MAX_EDITS = 4000;

export interface Line {
  readonly kind: "same" | "first" | "second";
  readonly text: string;
}

/** The lines of two texts in one order: those of both, those of the first only, those of the second only. */
export function textDifference(first: string, second: string): Line[] {
  const parts = diffLines(first, second, { maxEditLength: MAX_EDITS });
  const lines = (text: string) => text.replace(/\n$/, "").split("\n");
  if (!parts)
    return [
      ...lines(first).map((text) => ({ kind: "first" as const, text })),
      ...lines(second).map((text) => ({ kind: "second" as const, text })),
    ];
  return parts.flatMap((part) =>
    lines(part.value).map((text) => ({
      kind: part.removed ? ("first" as const) : part.added ? ("second" as const) : ("same" as const),
      text,
    })),
  );
}

export interface CellDifference {
  readonly sheet: string;
  readonly cell: string;
  readonly first: string;
  readonly second: string;
}

/** The cells that differ between two workbooks, sheet by sheet. */
export function cellDifferences(first: TablesPreview, second: TablesPreview): CellDifference[] {
  const found: CellDifference[] = [];
  const names = [...new Set([...first.tables, ...second.tables].map((table) => table.name))];
  for (const sheet of names) {
    const a = first.tables.find((table) => table.name === sheet);
    const b = second.tables.find((table) => table.name === sheet);
    const rows = Math.max(a?.rows.length ?? 0, b?.rows.length ?? 0);
    const columns = (a?.columns.length ?? 0) >= (b?.columns.length ?? 0) ? (a?.columns ?? []) : (b?.columns ?? []);
    for (let row = 0; row < rows; row += 1) {
      for (const [column, name] of columns.entries()) {
        const before = a?.rows[row]?.[column] ?? "";
        const after = b?.rows[row]?.[column] ?? "";
        if (before !== after) found.push({ sheet, cell: `${name}${row + 1}`, first: before, second: after });
      }
    }
  }
  return found;
}

/** The ranges in which two stretches of bytes differ, and from where one is longer. */
export function byteDifferences(first: Uint8Array, second: Uint8Array): { start: number; end: number }[] {
  const found: { start: number; end: number }[] = [];
  const length = Math.max(first.length, second.length);
  let start = -1;
  for (let at = 0; at <= length; at += 1) {
    const differs = at < length && first[at] !== second[at];
    if (differs && start < 0) start = at;
    if (!differs && start >= 0) {
      found.push({ start, end: at });
      start = -1;
    }
  }
  return found;
}
