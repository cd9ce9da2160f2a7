import type { TablesPreview } from "./contract";

export const MAX_COLUMNS = 60;
const MAX_CELL = 300;

/** Rows of cells under lettered columns. */
export function asTable(name: string, data: readonly (readonly unknown[])[], total: number, most: number): TablesPreview["tables"][number] {
  const rows = data.slice(0, most).map((row) => row.slice(0, MAX_COLUMNS).map(cellText));
  const width = rows.reduce((widest, row) => Math.max(widest, row.length), 0);
  return { name, columns: Array.from({ length: width }, (_, index) => columnName(index)), rows, total };
}

export function cellText(value: unknown): string {
  if (value === null || value === undefined) return "";
  if (value instanceof Date)
    return value
      .toISOString()
      .replace(/T00:00:00\.000Z$/, "")
      .slice(0, 19)
      .replace("T", " ");
  // As sheets show it, whatever form the workbook has.
  if (typeof value === "boolean") return value ? "TRUE" : "FALSE";
  if (value instanceof Uint8Array) return `${value.length} bytes`;
  return String(value).slice(0, MAX_CELL);
}

/** Columns of a sheet as it names them: A … Z, AA … */
function columnName(index: number): string {
  const letter = String.fromCharCode(65 + (index % 26));
  return index < 26 ? letter : columnName(Math.floor(index / 26) - 1) + letter;
}
