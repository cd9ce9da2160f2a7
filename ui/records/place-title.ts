const FILES = { main: "the database", log: "its log", journal: "its journal" } as const;

/** Says where a row stands; undefined: it has no place of its own. */
export const placeTitle = (from: keyof typeof FILES | null, at: number | null): string | undefined =>
  from && at !== null ? `In ${FILES[from]}, byte ${at.toLocaleString("en")}` : undefined;

/** Letters for databases that are read as one: rows say by them which has them. */
export const letterOf = (index: number) => String.fromCharCode(65 + index);

/** A path that breaks behind its marks, and not within names. */
export const breakable = (path: string) => path.replace(/[\\/]/g, "$&\u200b");
