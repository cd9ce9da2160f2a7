/** The kinds of spot a copy can come from. */
export const PLACES = [
  "bin",
  "autosave",
  "temporary",
  "own-backup",
  "recent",
  "snapshot",
  "backup",
  "file-record",
  "leftover-record",
  "raw",
] as const;
export type Place = (typeof PLACES)[number];

/** What is left of a copy, in a word. */
export const CONDITIONS = ["whole", "partial", "name-only", "not-checked"] as const;
export type Condition = (typeof CONDITIONS)[number];
