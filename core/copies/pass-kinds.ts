/** What can narrow a pass (`passOptions` in server/passes/contract.ts says what each is). */
export type PassOption = "folder" | "from" | "to" | "kinds" | "places" | "unused" | "everyByte" | "again";

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
    /** What it does until its progress is known. */
    readonly beginning: string;
  };
  /** The volume's own records, or nothing but bytes: content is found without any file system. */
  readonly needs: "records" | "bytes";
  /** What its progress counts. */
  readonly unit: "records" | "bytes";
  readonly options: readonly PassOption[];
  /** Whether it finds something in a folder of this computer: what that had before shows only in an image of its drive. */
  readonly onFolders: boolean;
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
    onFolders: true,
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
      beginning: "looking through the table",
    },
    needs: "records",
    unit: "records",
    options: ["folder", "from", "to", "kinds"],
    onFolders: true,
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
    options: ["folder", "kinds"],
    onFolders: true,
    inOneGo: true,
    usualSpeed: 8e-7,
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
    onFolders: false,
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
    options: ["from", "to", "kinds", "unused", "everyByte", "again"],
    onFolders: false,
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
