import type { Row } from "../row";
import type { Value } from "../sqlite/record";

/** A row as far as entries need it; one of several databases read as one has no place of its own. */
export interface RecordRow extends Pick<Row, "values" | "rowid" | "state" | "confidence" | "uncommitted" | "former"> {
  readonly at: number | null;
  readonly from: Row["from"] | null;
  /** Which of the databases that are read as one have it, by their place; not given: there is one database. */
  readonly in?: readonly number[];
}

/** Rows by their place, live and deleted. */
export interface Rows extends Iterable<RecordRow> {
  readonly length: number;
  at(index: number): RecordRow | undefined;
  /** The number of a row; null: it has none. */
  numberAt(index: number): RecordRow["rowid"];
  stateAt(index: number): RecordRow["state"];
  /** One value of a row; undefined: it is not known. */
  valueAt(index: number, column: number): Value | undefined;
}

/** A table with its rows. */
export interface RecordTable {
  readonly name: string;
  readonly columns: readonly string[];
  readonly rows: Rows;
}
