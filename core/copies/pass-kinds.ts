import { isBackup } from "../filesystems/names";

/** What can narrow a pass (`passOptions` in server/passes/contract.ts says what each is). */
export type PassOption =
  | "folder"
  | "from"
  | "to"
  | "kinds"
  | "places"
  | "statesFrom"
  | "newestFirst"
  | "statesTo"
  | "unused"
  | "everyByte"
  | "longer"
  | "again";

/** The forms a store may have. */
export const STORE_FORMS = ["volume", "folder", "backup"] as const;
export type StoreForm = (typeof STORE_FORMS)[number];

/** All that the house knows of a kind of pass but how its reader is opened (`worker/pass-readers.ts`). */
export interface PassKind {
  readonly words: {
    /** In the midst of a sentence. */
    readonly noun: string;
    readonly title: string;
    /** On the button that starts it. */
    readonly start: string;
    readonly about: string;
    /** What is said of it where a folder of this computer is read. */
    readonly aboutFolder?: string;
    /** What it is called, and what is said of it, where a backup file or archive is read. */
    readonly ofBackup?: { readonly noun: string; readonly title: string; readonly start: string; readonly about: string };
    /** What it does until its progress is known. */
    readonly beginning: string;
  };
  /** The volume's own records, or nothing but bytes: content is found without any file system. */
  readonly needs: "records" | "bytes";
  /** What its progress counts. */
  readonly unit: "records" | "bytes";
  readonly options: readonly PassOption[];
  /**
   * What it finds something in: volumes, folders of this computer (what those had before shows only in an image of their drive), and backup files
   * with archives.
   */
  readonly on: readonly StoreForm[];
  /** All it finds is lost, or may be; live files are not counted beside that. */
  readonly findsAlone?: true;
  /** It looks through the bytes themselves: the disk chart shows how far. */
  readonly looksThroughBytes?: true;
  /** It is done once for all of a volume, in one go: what leads to its finds is worked out from everything. */
  readonly inOneGo?: true;
  /** It leaves out what another one did before, so that it may be started more than once. */
  readonly goesOnFromOthers?: true;
  /** What does not add up in the volume is read when it has ended. */
  readonly readingFollows?: true;
  /** Milliseconds a byte of a volume takes until this bench has measured better: records are few, leftovers mean reading it all. */
  readonly usualSpeed: number;
}

/** The kinds of pass, in the order in which they are offered. */
export const PASS_KINDS = {
  "known-places": {
    words: {
      noun: "known places",
      title: "Known places",
      start: "Look there",
      about: "bins, autosave and temporary copies, backups beside the original and recent lists, under their right names; quick",
      beginning: "looking through the table",
    },
    needs: "records",
    unit: "records",
    options: ["folder", "kinds", "places"],
    on: ["volume", "folder", "backup"],
    findsAlone: true,
    inOneGo: true,
    usualSpeed: 8e-7,
  },
  "file-record": {
    words: {
      noun: "file records",
      title: "File records",
      start: "Read records",
      about: "the file system’s own records of live and deleted files; quick",
      aboutFolder: "every file that is there, to compare and to search in; what was deleted shows only in an image of the drive",
      ofBackup: {
        noun: "light reading",
        title: "Light reading",
        start: "Read lightly",
        about: "the files that can be followed from one to the next, without looking at their contents; quick, for what is hardly damaged",
      },
      beginning: "looking through the table",
    },
    needs: "records",
    unit: "records",
    options: ["folder", "from", "to", "kinds"],
    on: ["volume", "folder", "backup"],
    readingFollows: true,
    usualSpeed: 4e-7,
  },
  "earlier-states": {
    words: {
      noun: "earlier states",
      title: "Earlier states",
      start: "Read states",
      about:
        "what snapshots kept inside the volume, and backup sets that lie on it, still have: each content of a file once, with its dates",
      beginning: "looking for sets",
    },
    needs: "records",
    unit: "records",
    options: ["folder", "kinds", "statesFrom", "statesTo", "newestFirst"],
    on: ["volume", "folder"],
    inOneGo: true,
    usualSpeed: 8e-7,
  },
  thorough: {
    words: {
      noun: "thorough reading",
      title: "Thorough reading",
      start: "Read thoroughly",
      about: "past every damage, at every byte if need be, with each content looked at; adds to what a light one found",
      beginning: "looking for the first file",
    },
    needs: "records",
    unit: "bytes",
    options: ["folder", "from", "to", "kinds"],
    on: ["backup"],
    findsAlone: true,
    looksThroughBytes: true,
    readingFollows: true,
    usualSpeed: 8e-6,
  },
  "leftover-record": {
    words: {
      noun: "leftover records",
      title: "Leftover records",
      start: "Read leftovers",
      about: "what is left of a file system that was there before a format, and folders nothing leads to; reads the whole volume",
      beginning: "looking through the table",
    },
    needs: "records",
    unit: "bytes",
    options: ["folder", "from", "to", "kinds"],
    on: ["volume"],
    looksThroughBytes: true,
    usualSpeed: 6e-6,
  },
  raw: {
    words: {
      noun: "raw content",
      title: "Raw content",
      start: "Sweep",
      about: "files found by what they look like inside, without any record",
      beginning: "beginning",
    },
    needs: "bytes",
    unit: "bytes",
    options: ["from", "to", "kinds", "unused", "everyByte", "longer", "again"],
    on: ["volume", "backup"],
    looksThroughBytes: true,
    goesOnFromOthers: true,
    usualSpeed: 8e-6,
  },
} as const satisfies Record<string, PassKind>;

export type PassPlace = keyof typeof PASS_KINDS;
export const PASS_PLACES = Object.keys(PASS_KINDS) as [PassPlace, ...PassPlace[]];
export const passKind = (place: PassPlace): PassKind => PASS_KINDS[place];

/** Options that a kind of pass cannot follow. */
export const refusedOptions = (place: PassPlace, options: object): string[] =>
  Object.keys(options).filter((option) => !(passKind(place).options as readonly string[]).includes(option));

/** The form of a store, by the kind of its source's container and its file system. */
export const formOf = (container: string, filesystem: string): StoreForm =>
  container === "folder" ? "folder" : isBackup(filesystem) ? "backup" : "volume";

/** The words of a kind of pass for a store of a form. */
export function passWords(place: PassPlace, form: StoreForm): Omit<PassKind["words"], "aboutFolder" | "ofBackup"> {
  const { aboutFolder, ofBackup, ...words } = passKind(place).words;
  return form === "backup" ? { ...words, ...ofBackup } : form === "folder" ? { ...words, about: aboutFolder ?? words.about } : words;
}

/** Whether all that a pass finds in a store of a form is lost, or may be: what a backup holds is looked for because it is gone elsewhere. */
export const findsAlone = (place: PassPlace, form: StoreForm): boolean => form === "backup" || passKind(place).findsAlone === true;
