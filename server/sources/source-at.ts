import { sources } from "../database/schema";

/** The columns that say where the bytes of a source are and what is known of them: a `SourceAt`. */
export const SOURCE_AT = {
  sourcePath: sources.path,
  beside: sources.beside,
  bad: sources.unreadable,
  mark: sources.mark,
} as const;
