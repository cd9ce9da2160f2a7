/** What rows can be, beside rows of a table. */
export const ENTRY_KINDS = ["messages", "visits", "sites", "transfers", "contacts", "notes"] as const;
export type EntryKind = (typeof ENTRY_KINDS)[number];
