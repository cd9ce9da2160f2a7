import type { TableStatement } from "./sqlite/statement";

/** Gives the names of a table's columns; those without one are their numbers, from 0. */
export function columnsOf(statement: TableStatement | null, count: number): readonly string[] {
  if (!statement) return numbered(count);
  let names = named.get(statement);
  if (!names) {
    names = statement.columns.map(({ name }) => name);
    named.set(statement, names);
  }
  return names;
}

const named = new WeakMap<object, readonly string[]>();
const numberedNames: string[][] = [];
/** Names of columns that have none. */
function numbered(count: number): readonly string[] {
  numberedNames[count] ??= Array.from({ length: count }, (_, i) => String(i));
  return numberedNames[count] as string[];
}

/** Gives what a column or a table is called after: `member_id` and `members` are both called after a member. */
export const stemOf = (name: string) => name.toLowerCase().replace(/_?id$/, "").replace(/s$/, "");
