import { columnsOf } from "./column-names";
import type { LiveRow, Tree } from "./sqlite/database";
import type { Part } from "./sqlite/pages";
import type { Value } from "./sqlite/record";

/** A row of a database: one that counts, or what is left of one that does not. */
export interface Row {
  /** null: the name of its table is gone. */
  readonly table: string | null;
  /** The page its table begins with, as far as that is known: tables without a name are distinguished by it. */
  readonly root: number;
  /** Names of the columns; those without one are their numbers, from 0. */
  readonly columns: readonly string[];
  /** In the order of the columns; undefined: not known. */
  readonly values: readonly (Value | undefined)[];
  readonly rowid: number | bigint | null;
  readonly state: "live" | "deleted";
  /** `whole`: every value stands; `part`: some do not, or the row's number is gone; `guess`: it was worked out where a value begins, or which of several tables it is of. */
  readonly confidence: "whole" | "part" | "guess";
  /** It stands only in a transaction of the log that never came to an end: it was written and never counted. */
  readonly uncommitted: boolean;
  /** It is of a table that was dropped, or had other columns then: `columns` are those of that time. */
  readonly former: boolean;
  /** Where its cell begins, in the file `from` says. */
  readonly at: number;
  readonly from: Part;
}

/** Describes a cell of a table as a row. */
export function toRow(
  tree: Tree,
  { values, rowid, page, cell, whole }: LiveRow,
  about: Pick<Row, "state" | "uncommitted" | "former">,
): Row {
  const { name, root, statement } = tree;
  return {
    table: name,
    root,
    columns: columnsOf(statement, values.length),
    values,
    rowid,
    ...about,
    confidence: whole ? "whole" : "part",
    at: page.at + cell.at,
    from: page.from,
  };
}
