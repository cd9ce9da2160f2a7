import { parseArgs } from "node:util";
import { reportFaultsTo } from "../core/formats/reader-faults";
import { SourceError } from "../io/source-error";
import type { Options } from "./options";
import { EXIT, Usage } from "./usage";

const HELP = `Tidy Compass, command line

  compass inspect SOURCE [--findings] [--thorough] [--range 75%-100%] [--json]
      the partition table and the volumes of an image, lost and earlier ones included; with --findings what does not
      add up in each, and the users' profiles on it; with --thorough how many files of a backup file or archive stand how, or of a part of it

  compass stores SOURCE [--deep] [--thorough] [--json]
      what holds files: the volumes of an image with their snapshots, a folder; with --deep also the backup sets in them, state by
      state, the disk images that lie in them as files, and what is in those; with --thorough the sets of a large damaged backup file past its damage. The ID of a store is given to the verbs below with --store

  compass list SOURCE [--volume N | --store ID | --as-of DATE] [--state live|deleted|all] [--records-only] [--system]
               [--thorough] [--range 75%-100%] [--json]
      every file and folder a volume's own records tell, and what is left over of those before; the latter means reading
      the whole volume: --records-only leaves it out. With --as-of what stood in the newest state not later than that of every backup
      set and every snapshot; a day means its end, UTC. A backup file or archive is read lightly, by what leads from file to file in it;
      with --thorough past every damage, with contents looked at; with --range only a part of it

  compass restore SOURCE --to DIR [--volume N | --store ID | --as-of DATE] [--match GLOB] [--state live|deleted|all] [--records-only]
               [--keep-streams | --streams | --two-file] [--foreign] [--thorough] [--range 75%-100%] [--layout tree|flat|kind|date]
               [--names PATTERN] [--conflict keep-both|skip|replace|compare] [--package bagit] [--list] [--json]
      writes files under DIR, reads them again and tells their SHA-256; with --keep-streams their named streams, forks and attributes are kept
      with them where DIR can hold them, with --streams they are files of their own, with --two-file all of a file's are in a second file
      “._name” (AppleDouble, RFC 1740). Marks (“hidden” and dates of creation: on NTFS) are kept where DIR can hold them; what cannot go along is
      reported.
      Bytes that belong to other files now are written as zeros, with --foreign as they are; a file with such gaps says so.
      Files lie in their folders, or all in one, by kind, or by the day they were taken or changed; PATTERN makes names of
      {name} {ext} {date} {time} {year} {number} {title} {camera} {folder}. What was there is kept unless --conflict says otherwise: replaced
      files are kept aside, compare leaves one that is the same. With another layout, names or a package, and with --list where a name had to be
      changed, a list of what is called how lies beside them. A package is a bag (RFC 8493) with SHA-256 and SHA-512 manifests

  compass rehearse SOURCE --to DIR [the flags of restore that choose and lay out] [--json]
      what that restore would do, file by file and summed up; nothing is written

  compass verify DIR|HANDOVER.json [--json]
      whether a package is complete and unchanged

  compass versions SOURCE PATH [--json]
      every content that stood under a path, in the present volumes, snapshots and backup sets, oldest first, with the states that
      have it; PATH is the client's, with or without its drive

  compass places SOURCE [--volume N | --store ID] [--json]
      what bins, autosave and temporary folders, backups beside the original and recent lists hold, under the right names;
      SOURCE may be a folder too

  compass plan [--account FILE] [SOURCE…] [--json]
      where to look for what was lost and why; FILE has the account as JSON, SOURCE may be a folder too

  compass sweep SOURCE [--range 75%-100%] [--kinds jpeg,pdf] [--every-byte] [--longer] [--volume N | --store ID] [--unused] [--json]
      files by what they look like inside, without any file system; of a volume, or only of what it has not in use; with --longer pieces
      of files are looked for farther away and with more tries, which may take several times as long

  compass records FILE [--deleted] [--table T] [--json]
      the rows of an SQLite database, its log and journal beside it taken into account; with --deleted also what is left of rows that
      were deleted, changed or never committed, with how much of them stands and where. Of a file of settings (property list, JSON, XML, names and
      values a line) its values, each under the names it lies in; of a damaged one what is left

  compass join FILE… --to FILE [--json]
      writes a new database of the same schema with every row that any of these has, or has remains of, once; where each is from stands
      in a list beside it

  compass check FILE… [--json]
      whether files will open

  compass repair FILE --to FILE [--like FILE] [--json]
      writes what can be saved of a damaged file to another; --like names a sound file of the same camera or recorder

SOURCE is a drive (its device node), a raw image (also in parts), a VHD or VHDX; a parent that is not beside it is given with --beside FILE.
It is opened for reading only. Exit: 0 done, 1 done with problems, 2 wrong call, 3 source unreadable.
`;

const { string, boolean } = { string: { type: "string" }, boolean: { type: "boolean" } } as const;
const strings = { type: "string", multiple: true } as const;
const chosen = {
  json: boolean,
  volume: string,
  store: string,
  state: string,
  "records-only": boolean,
  beside: strings,
  thorough: boolean,
  range: string,
} as const;
const laidOut = {
  "as-of": string,
  match: string,
  to: string,
  streams: boolean,
  "two-file": boolean,
  "keep-streams": boolean,
  layout: string,
  names: string,
} as const;
// Each verb's code is loaded when it is called, so that no call waits for what it does not need.
const verbs = {
  inspect: {
    options: { json: boolean, findings: boolean, beside: strings, thorough: boolean, range: string },
    load: async () => (await import("./inspect")).inspect,
  },
  stores: {
    options: { json: boolean, deep: boolean, beside: strings, thorough: boolean },
    load: async () => (await import("./stores")).stores,
  },
  list: { options: { ...chosen, "as-of": string, system: boolean }, load: async () => (await import("./list")).list },
  restore: {
    options: { ...chosen, ...laidOut, foreign: boolean, conflict: string, package: string, list: boolean },
    load: async () => (await import("./restore")).restore,
  },
  rehearse: { options: { ...chosen, ...laidOut }, load: async () => (await import("./rehearse")).rehearse },
  verify: { options: { json: boolean }, load: async () => (await import("./verify")).verify },
  versions: { options: { json: boolean, beside: strings }, load: async () => (await import("./versions")).versions },
  places: {
    options: { json: boolean, volume: string, store: string, beside: strings },
    load: async () => (await import("./places")).places,
  },
  plan: { options: { json: boolean, account: string }, load: async () => (await import("./plan")).plan },
  sweep: {
    options: {
      json: boolean,
      range: string,
      kinds: string,
      "every-byte": boolean,
      longer: boolean,
      volume: string,
      store: string,
      unused: boolean,
      beside: strings,
    },
    load: async () => (await import("./sweep")).sweepSource,
  },
  records: { options: { json: boolean, deleted: boolean, table: string }, load: async () => (await import("./records")).listRecords },
  join: { options: { json: boolean, to: string }, load: async () => (await import("./join")).joinFiles },
  check: { options: { json: boolean }, load: async () => (await import("./check")).checkFiles },
  repair: { options: { json: boolean, to: string, like: string }, load: async () => (await import("./repair")).repairFile },
} as const;

async function main(): Promise<number> {
  const [verb, ...rest] = process.argv.slice(2);
  if (verb === undefined || verb === "help" || verb === "--help") {
    process.stderr.write(HELP);
    return verb === undefined ? EXIT.usage : EXIT.done;
  }
  if (!Object.hasOwn(verbs, verb)) throw new Usage(`There is no verb “${verb}”. Known: ${Object.keys(verbs).join(", ")}.`);
  const { options, load } = verbs[verb as keyof typeof verbs];
  const parsed = parse(rest, options);
  const run = await load();
  return run(parsed.positionals, parsed.values);
}

function parse(
  args: string[],
  options: Record<string, { type: "string" | "boolean"; multiple?: boolean }>,
): { positionals: string[]; values: Options } {
  try {
    const parsed = parseArgs({ args, options, allowPositionals: true, strict: true });
    return { positionals: parsed.positionals, values: parsed.values as Options };
  } catch (error) {
    throw new Usage(`${(error as Error).message.split(". ")[0]}.`);
  }
}

// A fault of ours is no fault of the file: it is said beside what was found.
const said = new Set<string>();
reportFaultsTo((reader, error) => {
  const words = `A reader of the bench failed (${reader}): ${error.message}\n`;
  if (said.has(words) || said.size >= 100) return;
  said.add(words);
  process.stderr.write(words);
});

try {
  process.exitCode = await main();
} catch (error) {
  if (error instanceof Usage || error instanceof SourceError) {
    process.stderr.write(`${error.message}\n`);
    process.exitCode = error instanceof Usage ? EXIT.usage : EXIT.unreadable;
  } else {
    process.stderr.write(`This should not have happened: ${(error as Error).stack ?? error}\n`);
    process.exitCode = EXIT.unreadable;
  }
}
