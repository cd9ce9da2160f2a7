import type { Absence } from "../filesystems/file-record";

interface PlaceKind {
  /** What a person calls it. */
  readonly title: string;
  /** What lies there was kept because something may be lost: a live file there is a find too. */
  readonly impliesLoss?: true;
  /** Among copies in the same condition: later ones are taken after earlier ones. By default 0. */
  readonly rank?: number;
  /** A rule of one's own may say that it leads there. */
  readonly forOwnRules?: true;
}

/** The kinds of spot a copy can come from, in the order in which they are listed. */
export const PLACE_KINDS = {
  bin: { title: "Bin", impliesLoss: true },
  autosave: { title: "Autosave", impliesLoss: true, forOwnRules: true },
  temporary: { title: "Temporary", impliesLoss: true, rank: 1, forOwnRules: true },
  "own-backup": { title: "Own backup", impliesLoss: true, forOwnRules: true },
  recent: { title: "Recent list" },
  snapshot: { title: "Snapshot" },
  backup: { title: "Backup set" },
  "file-record": { title: "File record" },
  "leftover-record": { title: "Leftover record" },
  raw: { title: "Raw", rank: 2 },
} as const satisfies Record<string, PlaceKind>;

export type Place = keyof typeof PLACE_KINDS;
export const PLACES = Object.keys(PLACE_KINDS) as [Place, ...Place[]];

const kindOf = (place: Place): PlaceKind => PLACE_KINDS[place];
export const titleOf = (place: Place): string => kindOf(place).title;
export const rankOf = (place: Place): number => kindOf(place).rank ?? 0;
/** Places of which each says so. */
export const placesWith = (trait: "impliesLoss" | "forOwnRules"): Place[] => PLACES.filter((place) => kindOf(place)[trait]);

/** Why a content cannot be read here, in words. */
export const ABSENCE_WORDS: Record<Absence, string> = {
  encrypted: "It is encrypted for its owner’s account: without that key its content stays closed.",
  "cloud-only": "It was kept in the cloud alone: its content was never stored here.",
  "record-damaged": "The record that says where its content stands is gone.",
  "not-followed": "It is kept in a way that is not followed here, or is a link to another place.",
  "named-only": "Something names it, a list or the bin’s own record; its content is not there.",
};

/** What is left of a copy, in a word. */
export const CONDITIONS = ["whole", "partial", "name-only", "not-checked"] as const;
export type Condition = (typeof CONDITIONS)[number];

/** How the pieces of a copy were found, where no pass did it. */
export const LAID = ["by-hand", "longer-look"] as const;
export type Laid = (typeof LAID)[number];

/** Pieces a person lays a file over, at most. */
export const MOST_PIECES = 64;
