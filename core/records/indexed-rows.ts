import type { CountingRow } from "./damaged-rows";
import type { Database, LiveRow, Tree } from "./sqlite/database";
import type { Value } from "./sqlite/record";
import { NO_TEXT } from "./sqlite/schema-list";
import { parseIndex } from "./sqlite/statement";

/** Rows of one table that are put together from indexes. */
const MOST_ROWS = 1_000_000;
/** Share of the entries of an index that may be damaged. */
const FEW = 0.02;

/**
 * Finds rows of damaged tables of which only the entries in indexes are left: each has the values of some columns, and the number of the row (SQLite file
 * format, 2.5).
 * @param isKnown whether the row of this number was found
 */
export function* indexedRows(database: Database, isKnown: (tree: Tree, rowid: number) => boolean): Generator<CountingRow> {
  for (const tree of database.trees) {
    if (!tree.broken || !tree.statement || !tree.shape.hasRowId || tree.shape.isIndex) continue;
    const found = new Map<number, LiveRow>();
    for (const [index, columns] of indexesOf(database, tree)) {
      const isLikely = likelyNumbers(database, index);
      for (const entry of database.rowsOf(index)) {
        const { values } = entry;
        const rowid = values.at(-1);
        if (typeof rowid !== "number" || values.length !== columns.length + 1 || isKnown(tree, rowid)) continue;
        if (!isLikely(rowid) || values.some(isNoText)) continue;
        const row = found.get(rowid) ?? emptyRow(tree, entry, rowid);
        columns.forEach((column, i) => {
          if (values[i] !== undefined) row.values[column] = values[i];
        });
        if (found.size < MOST_ROWS) found.set(rowid, row);
      }
    }
    for (const row of found.values()) yield { tree, row, isUnsure: false };
  }
}

/** What numbers of rows an index has: of an entry that was partly written over, the number is any, and lies far from nearly all others. */
function likelyNumbers(database: Database, index: Tree): (rowid: number) => boolean {
  const numbers: number[] = [];
  for (const { values } of database.rowsOf(index)) {
    const rowid = values.at(-1);
    if (typeof rowid === "number" && numbers.push(rowid) >= MOST_ROWS) break;
  }
  numbers.sort((a, b) => a - b);
  const few = Math.floor(numbers.length * FEW);
  const [least, most] = [numbers[few] ?? 0, numbers[numbers.length - 1 - few] ?? 0];
  const span = most - least;
  return (rowid) => rowid >= least - span && rowid <= most + span && (rowid > 0 || least <= 0);
}

const isNoText = (value: Value | undefined): boolean => typeof value === "string" && NO_TEXT.test(value);

/** The indexes of a table, with the columns their entries have the values of. */
function indexesOf({ schema, trees }: Database, table: Tree): [Tree, readonly number[]][] {
  return trees.flatMap((tree): [Tree, readonly number[]][] => {
    const entry = tree.shape.isIndex ? schema.find(({ type, root }) => type === "index" && root === tree.root) : undefined;
    if (!entry || entry.table.toLowerCase() !== table.name?.toLowerCase()) return [];
    const columns = entry.sql === "" ? columnsByDeclaration(table) : columnsByName(table, parseIndex(entry.sql)?.columns ?? []);
    return columns.length > 0 && !columns.includes(-1) ? [[tree, columns]] : [];
  });
}

/** What an index that a table's own declaration asks for is over; empty where that asks for several. */
function columnsByDeclaration({ statement }: Tree): readonly number[] {
  const { key, unique, alias } = statement ?? { key: [], unique: [], alias: -1 };
  const asked = [...(alias < 0 && key.length > 0 ? [key] : []), ...unique];
  return asked.length === 1 ? (asked[0] as readonly number[]) : [];
}

const columnsByName = ({ statement }: Tree, names: readonly string[]): number[] =>
  names.map((name) => statement?.columns.findIndex((column) => column.name.toLowerCase() === name.toLowerCase()) ?? -1);

/** A row of which nothing is known but its number. */
function emptyRow({ statement }: Tree, entry: LiveRow, rowid: number): LiveRow {
  const values: (Value | undefined)[] = (statement?.columns ?? []).map((_, column) => (column === statement?.alias ? rowid : undefined));
  return { ...entry, cell: { ...entry.cell }, types: [...entry.types], values, rowid, whole: false };
}
