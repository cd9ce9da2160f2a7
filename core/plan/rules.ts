import type { Cause, System } from "./account";
import type { Chance, StepKind } from "./steps";

/** One line of the table: the step, its chance, and why it stands here. */
export type Line = readonly [step: StepKind, chance: Chance, why: string];

export interface CauseRule {
  /** In the order in which they are worth doing: what is cheap and faithful first. */
  readonly steps: readonly Line[];
  /** What is of no use, or does harm, and why. */
  readonly against: readonly (readonly [step: StepKind | "use", why: string])[];
}

const ASK_BACKUPS: Line = [
  "backups",
  "fair",
  "Ask for backup disks and sets: the state before the loss may be in one. Add it as a source.",
];
const ASK_CLOUD: Line = ["cloud", "fair", "If the folder was synchronised: its bin and its version history, in the client’s own account."];
const ASK_SNAPSHOTS: Line = [
  "snapshots",
  "low",
  "If they were switched on, snapshots inside the volume hold the folder as it was; backup sets that lie on it do, too.",
];
const RAW: Line = [
  "raw",
  "low",
  "Files found by what they look like inside, where no record leads to them any more; slow, and without names.",
];
const RECENT: Line = ["recent", "fair", "It tells the exact name, folder and dates of what was open last."];
const KEEP_OFF: CauseRule["against"][number] = ["use", "Every further use of the drive can overwrite what is lost."];

/** What is done for each cause. Common practice, no published source. */
export const CAUSE_RULES: Readonly<Record<Cause, CauseRule>> = {
  "closed-unsaved": {
    steps: [
      [
        "autosave",
        "good",
        "Programs keep a copy of an open document every few minutes; after closing without saving, the last one often stays.",
      ],
      RECENT,
      ["own-backups", "fair", "The state before the last saving, if it had ever been saved."],
      [
        "file-records",
        "fair",
        "Autosave and temporary files that were removed at closing: their deleted records come up under their right names.",
      ],
      ASK_SNAPSHOTS,
      ASK_BACKUPS,
    ],
    against: [
      ["leftover-records", "Nothing was formatted: there is no earlier file system to read."],
      ["raw", "What was never saved has no content of its own on the drive; only its autosave copies have."],
    ],
  },
  crashed: {
    steps: [
      ["autosave", "good", "After a crash nothing was tidied up: autosave copies and temporary files are still where they were written."],
      ["own-backups", "fair", "The state before the last saving."],
      RECENT,
      ["file-records", "fair", "Temporary files that were removed at the next start."],
      ASK_SNAPSHOTS,
      ASK_BACKUPS,
    ],
    against: [["leftover-records", "Nothing was formatted: there is no earlier file system to read."]],
  },
  binned: {
    steps: [
      ["bin", "good", "It is in the bin until that is emptied, with its old name and folder."],
      ["file-records", "fair", "If the bin was emptied meanwhile, its records are among the deleted ones."],
      ASK_BACKUPS,
    ],
    against: [["raw", "Names and folders are known here; raw content has neither."]],
  },
  "bin-emptied": {
    steps: [
      ["bin", "good", "The bin’s own records and contents are found among the deleted ones, and put together again with the old names."],
      ["file-records", "good", "The deleted records of everything else; the sooner after the loss, the more is whole."],
      ASK_SNAPSHOTS,
      ASK_BACKUPS,
      ASK_CLOUD,
      ["leftover-records", "low", "Records cut off from the present ones; slow, and only for what the steps before did not bring."],
      RAW,
    ],
    against: [KEEP_OFF],
  },
  "deleted-past-bin": {
    steps: [
      ["file-records", "good", "The deleted record keeps name, folder and dates until it is used again."],
      ["own-backups", "fair", "The program’s own backup beside it may have been left."],
      ["autosave", "low", "A temporary or autosave copy may have been left."],
      ASK_SNAPSHOTS,
      ASK_BACKUPS,
      ASK_CLOUD,
      ["leftover-records", "low", "Records cut off from the present ones; slow."],
    ],
    against: [KEEP_OFF],
  },
  "too-large-for-bin": {
    steps: [
      ["file-records", "fair", "A large file lies in many places; its record tells them, and some may have been used again."],
      ASK_BACKUPS,
      ASK_SNAPSHOTS,
      ASK_CLOUD,
      ["leftover-records", "low", "Records cut off from the present ones; slow."],
    ],
    against: [KEEP_OFF],
  },
  overwritten: {
    steps: [
      ["own-backups", "good", "Many programs keep the state before the last saving beside the original."],
      ["autosave", "fair", "An autosave copy from before the wrong edit."],
      ASK_SNAPSHOTS,
      ASK_BACKUPS,
      ASK_CLOUD,
      [
        "file-records",
        "fair",
        "Programs often write a new file and delete the old one: the old one is then a deleted file of the same name.",
      ],
    ],
    against: [
      ["raw", "The record of the live file leads to the wrong version only; without names no version can be distinguished from another."],
      KEEP_OFF,
    ],
  },
  formatted: {
    steps: [
      ["leftover-records", "good", "A quick format writes little: the old records still stand in the volume, with names and folders."],
      ["file-records", "low", "Only what was written after the format."],
      ASK_BACKUPS,
      RAW,
    ],
    against: [KEEP_OFF],
  },
  reinstalled: {
    steps: [
      ["profiles", "fair", "If the drive was not formatted, the old documents may sit in the folder of the previous system."],
      ["leftover-records", "good", "If it was formatted, the old records still stand in the volume where the new system did not write."],
      ["file-records", "fair", "Deleted records of what the installation removed."],
      ASK_BACKUPS,
      ASK_CLOUD,
      RAW,
    ],
    against: [KEEP_OFF],
  },
  upgraded: {
    steps: [
      [
        "profiles",
        "good",
        "After an upgrade, documents often sit in another user’s profile or in the previous system’s folder; nothing was lost.",
      ],
      ["recent", "fair", "It tells the folder in which the client had it."],
      ["file-records", "fair", "Deleted records of what the upgrade removed."],
      ASK_BACKUPS,
      ASK_CLOUD,
    ],
    against: [["leftover-records", "An upgrade does not format; try it only when all else has failed."]],
  },
  "application-removed": {
    steps: [
      ["file-records", "good", "The application’s data folder was deleted with its records: they are enough."],
      ["autosave", "low", "Its temporary files."],
      ["bin", "low", "Its folder may have been thrown into the bin."],
      ASK_BACKUPS,
      ASK_CLOUD,
    ],
    against: [["raw", "Data files of applications are distinguished by their names and folders, which raw content has not."]],
  },
  "history-cleared": {
    steps: [
      [
        "file-records",
        "good",
        "The history is a database that still stands: what was cleared often stands in it, in its log and in its free pages. Open it from the items and read its records; a light reading of the drive is enough for that.",
      ],
      ASK_SNAPSHOTS,
      ASK_BACKUPS,
      ["profiles", "low", "An earlier profile of the program keeps a history of its own; so do its lists of icons and sites."],
      ["bin", "low", "A folder of the program may have been thrown into it."],
      ASK_CLOUD,
      ["leftover-records", "low", "Databases of an earlier installation; only when those that are there go back too little. Slow."],
      ["raw", "low", "Databases by their mark, without names: read as records, the times in each show whether it is the one."],
    ],
    against: [["use", "Do not start the program: it tidies its database, and what was cleared is written over."]],
  },
  "messages-gone": {
    steps: [
      [
        "file-records",
        "good",
        "A program that was installed anew begins an empty database, and the old one is left beside it or deleted: both come out of one light reading. Read the records of each, and see how far back it goes.",
      ],
      ["profiles", "fair", "The old database may stand in another user’s folder, or in that of the previous system."],
      ASK_BACKUPS,
      ASK_SNAPSHOTS,
      ["bin", "low", "Its folder may have been thrown into the bin."],
      ASK_CLOUD,
      ["leftover-records", "low", "Databases of before the drive was formatted; only when no record of theirs is left. Slow."],
      ["raw", "low", "Databases by their mark, when neither name nor folder is left of them."],
    ],
    against: [["use", "Do not start the program: it would fetch, tidy and overwrite."]],
  },
  failing: {
    steps: [
      ["image", "good", "A failing drive is read once, onto another one; everything else is done on the image."],
      ["file-records", "fair", "The records lie close together: names and folders with little reading."],
      ["bin", "fair", "What is in the bin needs little reading too."],
      ASK_BACKUPS,
      ["leftover-records", "low", "It reads the whole volume: only from an image."],
    ],
    against: [["use", "Every reading wears a failing drive: no long pass before there is an image."]],
  },
  "backup-closed": {
    steps: [
      ["thorough", "good", "What is damaged is passed over: every file that still stands in the backup comes out of it."],
      ["backups", "fair", "Other sets or an earlier date of the same one; ask for the password if it is protected."],
      ["file-records", "fair", "The originals, and earlier backup files that were removed by the backup itself."],
      ["own-backups", "low", "Copies beside the originals."],
      ASK_CLOUD,
    ],
    against: [["use", "Do not let a program repair the backup in place: it may make it worse. Work on a copy."]],
  },
  unknown: {
    steps: [
      ["bin", "fair", "The cheapest look, and the most faithful."],
      RECENT,
      ["autosave", "fair", "Copies that programs made by themselves."],
      ["own-backups", "fair", "The state before the last saving."],
      ["profiles", "low", "It may only sit where the client does not look."],
      ["file-records", "fair", "All deleted records, with names and folders."],
      ["thorough", "fair", "What a backup file or archive still holds, whatever is damaged in it."],
      ASK_SNAPSHOTS,
      ASK_BACKUPS,
      ASK_CLOUD,
      ["leftover-records", "low", "An earlier file system, if there was one; slow."],
      RAW,
    ],
    against: [KEEP_OFF],
  },
};

/** The bin is looked into whatever the client says happened: it takes seconds, and people misremember. */
export const BIN_ANYWAY: Line = ["bin", "low", "It costs seconds to look, and what was said of the loss may not be all that happened."];

/** Steps that mean nothing on a system. */
export const NOT_ON: Readonly<Record<System, readonly StepKind[]>> = {
  windows: [],
  mac: [],
  card: ["autosave", "recent", "profiles", "snapshots", "cloud"],
};
