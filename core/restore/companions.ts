/**
 * Files that belong to a database by their names alone: whoever opens it applies what they hold (SQLite, "Temporary Files Used By SQLite",
 * 2.1 and 2.2: "-journal", "-wal", "-shm" behind the database's own name).
 */
export const COMPANIONS = ["-journal", "-wal", "-shm"] as const;

/** The same as a pattern of the database. */
export const COMPANION_PATTERN = `(${COMPANIONS.join("|")})$`;

/** What a companion's name has behind that of its database; null: it is none. */
export const companionSuffix = (name: string): string | null =>
  COMPANIONS.find((suffix) => name.length > suffix.length && name.endsWith(suffix)) ?? null;

const MARK = "SQLite format 3\0";

/** Says whether a content is a database that has companions. @param head its first bytes */
export const hasCompanions = (head: Uint8Array): boolean =>
  head.length >= MARK.length && Buffer.from(head.buffer, head.byteOffset, MARK.length).toString("latin1") === MARK;
/** Bytes of a content that are compared. */
export const COMPANION_HEAD = MARK.length;
