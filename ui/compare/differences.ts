import { diffArrays, diffLines } from "diff";
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

export interface SheetDifference {
  readonly sheet: string;
  /** Which cell, or which row where all of it is in one of the two alone. */
  readonly place: string;
  readonly kind: "cell" | "row";
  /** null: the row is not there. */
  readonly first: string | null;
  readonly second: string | null;
}

type Table = TablesPreview["tables"][number];

/** What differs between two workbooks, sheet by sheet. Rows are matched first, so that one that was put in is one difference. */
export function sheetDifferences(first: TablesPreview, second: TablesPreview): SheetDifference[] {
  const names = [...new Set([...first.tables, ...second.tables].map((table) => table.name))];
  return names.flatMap((sheet) => {
    const [a, b] = [first, second].map(({ tables }) => tables.find((table) => table.name === sheet));
    return rowsOf(sheet, a, b);
  });
}

const keyOf = (row: readonly string[]) => JSON.stringify(row.slice(0, row.findLastIndex((cell) => cell !== "") + 1));

function rowsOf(sheet: string, a: Table | undefined, b: Table | undefined): SheetDifference[] {
  const [rowsA, rowsB] = [a?.rows ?? [], b?.rows ?? []];
  const columns = (a?.columns.length ?? 0) >= (b?.columns.length ?? 0) ? (a?.columns ?? []) : (b?.columns ?? []);
  const parts = diffArrays(rowsA.map(keyOf), rowsB.map(keyOf), { maxEditLength: MAX_EDITS });
  // With too many differences to match rows, they are compared as they stand.
  const blocks = parts ? matched(parts) : [{ a: rowsA.length, b: rowsB.length, same: false }];
  const found: SheetDifference[] = [];
  let [atA, atB] = [0, 0];
  for (const block of blocks) {
    if (!block.same) found.push(...inBlock(sheet, columns, rowsA.slice(atA, atA + block.a), rowsB.slice(atB, atB + block.b), atA, atB));
    atA += block.a;
    atB += block.b;
  }
  return found;
}

/** Runs of equal rows, and what stands between them: so many rows of the one for so many of the other. */
function matched(
  parts: readonly { value: readonly string[]; added?: boolean; removed?: boolean }[],
): { a: number; b: number; same: boolean }[] {
  const blocks: { a: number; b: number; same: boolean }[] = [];
  for (const { value, added, removed } of parts) {
    const last = blocks[blocks.length - 1];
    const count = value.length;
    if (!added && !removed) blocks.push({ a: count, b: count, same: true });
    else if (last && !last.same)
      blocks[blocks.length - 1] = { ...last, a: last.a + (removed ? count : 0), b: last.b + (added ? count : 0) };
    else blocks.push({ a: removed ? count : 0, b: added ? count : 0, same: false });
  }
  return blocks;
}

/** How many cells two rows have in common: rows that have none are different rows, not changed ones. */
const likeness = (a: readonly string[], b: readonly string[]) => a.filter((cell, column) => cell !== "" && cell === b[column]).length;

function inBlock(
  sheet: string,
  columns: readonly string[],
  a: readonly (readonly string[])[],
  b: readonly (readonly string[])[],
  atA: number,
  atB: number,
): SheetDifference[] {
  const found: SheetDifference[] = [];
  const lone = (place: string, first: string | null, second: string | null) => found.push({ sheet, place, kind: "row", first, second });
  const said = (row: readonly string[]) => row.filter(Boolean).join(", ");
  let j = 0;
  a.forEach((row, i) => {
    // The next row of the other that is like this one, so that rows put in before it do not shift all that follow.
    const left = a.length - i - 1;
    const most = b.length - left;
    let match = j < b.length ? j : -1;
    for (let k = j; k < Math.max(most, j + 1) && k < b.length; k += 1) {
      if (likeness(row, b[k] as readonly string[]) > (match >= 0 ? likeness(row, b[match] as readonly string[]) : 0)) match = k;
    }
    if (match < 0) {
      lone(`row ${atA + i + 1}`, said(row), null);
      return;
    }
    for (; j < match; j += 1) lone(`row ${atB + j + 1}`, null, said(b[j] as readonly string[]));
    const other = b[match] as readonly string[];
    j = match + 1;
    for (const [column, name] of columns.entries()) {
      const [before, after] = [row[column] ?? "", other[column] ?? ""];
      if (before !== after) found.push({ sheet, place: `${name}${atA + i + 1}`, kind: "cell", first: before, second: after });
    }
  });
  for (; j < b.length; j += 1) lone(`row ${atB + j + 1}`, null, said(b[j] as readonly string[]));
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
