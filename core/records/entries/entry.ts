import type { EntryKind } from "./kinds";
import type { RecordRow } from "./table";

/** A file that was sent or received, as its row describes it. */
export interface SentFile {
  readonly name: string;
  readonly path: string | null;
  readonly size: number | null;
  readonly type: string | null;
  /** What is left of its row does not count any more. */
  readonly deleted: boolean;
}

/** A row as what it is: a message, a visit, a file sent or received, somebody who is known, a note. */
export interface Entry {
  readonly kind: EntryKind;
  /** UTC milliseconds; null: not known. */
  readonly at: number | null;
  /** Who wrote it; null: not known. */
  readonly who: string | null;
  /** The key of its conversation in `Entries.talks`; null: it is in none, or not known in which. */
  readonly talk: string | null;
  readonly title: string | null;
  readonly text: string | null;
  /** The page that was visited, or the site. */
  readonly address: string | null;
  readonly files: readonly SentFile[];
  /** Of somebody who is known: what else stands in the row, by column. */
  readonly details: readonly (readonly [column: string, value: string])[];
  readonly table: string;
  readonly row: RecordRow;
  /** It is no row of a visit, but what the list of pages still says of the last one. */
  readonly lastVisit?: boolean;
}
