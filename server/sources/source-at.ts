import { sql } from "drizzle-orm";
import type { Range } from "../../core/bytes/range-set";
import type { InnerFile } from "../../io/inner-file";
import type { SourceAt } from "../../io/open-source";
import { sources } from "../database/schema";

/** The columns that say where the bytes of a source are and what is known of them: a `SourceAt`. */
export const SOURCE_AT = {
  sourcePath: sources.path,
  beside: sources.beside,
  within: sources.within,
  bad: sources.unreadable,
  mark: sources.mark,
} as const;

/** The same columns in SQL of a source `s`, with its id. */
export const SOURCE_COLUMNS = sql`s.path, s.beside, s.within, s.unreadable as bad, s.mark, s.id as source_id`;

export interface SourceColumns extends Record<string, unknown> {
  path: string;
  beside: string[];
  within: InnerFile[];
  bad: Range[];
  mark: string | null;
  source_id: number;
}

export const toSourceAt = ({ path, beside, within, bad, mark, source_id }: SourceColumns): SourceAt & { readonly sourceId: number } => ({
  sourcePath: path,
  beside,
  within,
  bad,
  mark,
  sourceId: source_id,
});
