import type { Row } from "../records";

/** A row as far as entries need it; one of several databases read as one has no place of its own. */
export interface RecordRow extends Pick<Row, "values" | "rowid" | "state" | "confidence" | "uncommitted"> {
  readonly at: number | null;
  readonly from: Row["from"] | null;
  /** Which of the databases that are read as one have it, by their place; not given: there is one database. */
  readonly in?: readonly number[];
}

/** A table with its rows, live and deleted. */
export interface RecordTable {
  readonly name: string;
  readonly columns: readonly string[];
  readonly rows: readonly RecordRow[];
}
