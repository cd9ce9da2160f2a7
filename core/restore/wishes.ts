/**
 * What to do where a file of that name is already: "compare" leaves it where it holds the same bytes, and keeps both where it does not;
 * "replace" keeps it aside under another name.
 */
export const CONFLICTS = ["keep-both", "compare", "skip", "replace"] as const;
export type Conflict = (typeof CONFLICTS)[number];

/** What a restore makes: files as they are, or packages for the archive (bags, RFC 8493). */
export const RESTORE_FORMS = ["files", "bag"] as const;
export type RestoreForm = (typeof RESTORE_FORMS)[number];

/**
 * What becomes of a file's named streams, forks and extended attributes: they are left, and reported; they are kept with the file, where the
 * destination can hold them (`carried.ts`); each is a file of its own beside it; or all are in one second file (`two-files.ts`).
 */
export const STREAM_WISHES = ["leave", "keep", "beside", "two-file"] as const;
export type StreamWish = (typeof STREAM_WISHES)[number];

/** What becomes of a taken name once the bytes were compared, and differ. */
export const takenFor = (conflict: Conflict): Exclude<Conflict, "compare"> => (conflict === "compare" ? "keep-both" : conflict);
