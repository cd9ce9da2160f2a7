import type { PassPlace } from "../copies/pass-kinds";
import type { Place } from "../copies/vocabulary";

/** The kinds of step a plan is made of. */
export const STEP_KINDS = [
  "image",
  "bin",
  "autosave",
  "own-backups",
  "recent",
  "profiles",
  "file-records",
  "leftover-records",
  "thorough",
  "raw",
  "snapshots",
  "backups",
  "cloud",
] as const;
export type StepKind = (typeof STEP_KINDS)[number];

export interface StepFacts {
  readonly title: string;
  /** The pass that does it, or the technician's hand. */
  readonly by: "hand" | PassPlace;
  /** Of known places: which. */
  readonly places: readonly Place[];
  readonly cannotFind: string;
}

export const STEPS: Readonly<Record<StepKind, StepFacts>> = {
  image: {
    title: "Make an image first",
    by: "hand",
    places: [],
    cannotFind: "It finds nothing by itself; it keeps the drive from getting worse while everything else is done on the copy.",
  },
  bin: {
    title: "The bin",
    by: "known-places",
    places: ["bin"],
    cannotFind: "What was deleted past the bin or was too large for it.",
  },
  autosave: {
    title: "Autosave and temporary copies",
    by: "known-places",
    places: ["autosave", "temporary"],
    cannotFind: "Documents whose program keeps no copies, and those it removed when it was closed in the ordinary way.",
  },
  "own-backups": {
    title: "Backups beside the original",
    by: "known-places",
    places: ["own-backup"],
    cannotFind: "Anything older than the last saving but one.",
  },
  recent: {
    title: "Recent lists",
    by: "known-places",
    places: ["recent"],
    cannotFind: "Content: it tells names, folders and dates, which the other steps can be searched by.",
  },
  profiles: {
    title: "Other users’ profiles and the previous system’s folder",
    by: "hand",
    places: [],
    cannotFind: "Files that were deleted: it shows what still sits unseen under another user or a system of before.",
  },
  "file-records": {
    title: "File records, deleted ones too",
    by: "file-record",
    places: [],
    cannotFind: "Files whose records were used again, or written by a file system that is not there any more.",
  },
  "leftover-records": {
    title: "Records left over from before",
    by: "leftover-record",
    places: [],
    cannotFind: "Files whose records were overwritten since.",
  },
  thorough: {
    title: "The backup file, past its damage",
    by: "thorough",
    places: [],
    cannotFind: "Files whose bytes are gone from it, and names that stood in damaged blocks alone.",
  },
  raw: {
    title: "Raw content, without names",
    by: "raw",
    places: [],
    cannotFind: "Names, folders and dates of saving; files in more than two pieces; what was overwritten.",
  },
  snapshots: {
    title: "Earlier states: snapshots and backup sets",
    by: "earlier-states",
    places: [],
    cannotFind: "Anything where they were not switched on before the loss.",
  },
  backups: {
    title: "Backups",
    by: "hand",
    places: [],
    cannotFind: "What was made after the last backup.",
  },
  cloud: {
    title: "Cloud folder: its bin and its versions",
    by: "hand",
    places: [],
    cannotFind: "What was never in the cloud folder, and what was removed there more than about a month ago.",
  },
};

export const CHANCES = ["good", "fair", "low"] as const;
export type Chance = (typeof CHANCES)[number];
