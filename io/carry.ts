import { chmodSync, lstatSync, type Stats, utimesSync } from "node:fs";
import { join } from "node:path";
import type { OwnAttribute } from "../core/restore/attribute-dump";
import type { Carried, FileFacts } from "../core/restore/carried";
import { hasAttributeTools, readOwnAttributes, setOwnAttributes } from "./own-attributes";

/** The rights of a Unix mode to write. */
const ANY_WRITES = 0o222;

/** Dates of change that differ by less are the same: FAT counts two seconds. */
const DATE_GRAIN_MS = 2_000;

/** A file by its name in a folder, and what it is to carry. */
export interface Carrying {
  readonly file: string;
  readonly facts: FileFacts;
}

/**
 * The attributes by which a driver of NTFS for this system shows and takes a file's marks and its dates (ntfs-3g(8), "Extended attributes"):
 * 32 bits of marks; dates of creation, of change and others, each 64 bits of 100 ns since 1601; big-endian. Marks: [MS-FSCC] 2.6.
 */
const MARKS = "system.ntfs_attrib_be";
const DATES = "system.ntfs_times_be";
const NTFS_MARK = { readOnly: 0x1, hidden: 0x2, archive: 0x20 } as const;
const FILETIME_UNIX = 11_644_473_600_000;
/** Moments such a date can count, UTC milliseconds. */
const isCountable = (moment: number): boolean => moment >= -FILETIME_UNIX && moment < 2 ** 63 / 10_000 - FILETIME_UNIX;

/** Where two of NTFS's own attributes stand for the files of a folder: whether its file system has them. */
const isNtfs = (folder: string, file: string): boolean => readOwnAttributes(folder, [file], MARKS).has(file);

const needsTools = ({ attributes, hidden, readOnly, created }: FileFacts): boolean =>
  attributes.length > 0 || hidden || readOnly || created !== null;

/**
 * Gives files what they carry beside their content, as far as the file system can hold it, and reads it there again. Dates of change and
 * marks come last: nothing can be set on a file that is marked “read only”.
 * @param ntfs whether the file system is known to be NTFS, or known not to be; found out, and kept there, where nothing is known
 * @returns for each file what of it stands there
 */
export function carry(folder: string, files: readonly Carrying[], ntfs: { known?: boolean } = {}): Carried[] {
  const [first] = files;
  const tools = first !== undefined && files.some(({ facts }) => needsTools(facts)) && hasAttributeTools();
  if (tools) ntfs.known ??= isNtfs(folder, first.file);
  const set = (attributesOf: (facts: FileFacts) => OwnAttribute[]) =>
    setOwnAttributes(
      folder,
      files.map(({ file, facts }) => ({ file, attributes: attributesOf(facts) })).filter(({ attributes }) => attributes.length > 0),
    );
  if (tools) set((facts) => [...facts.attributes, ...(ntfs.known ? marksOnNtfs(facts) : [])]);
  for (const { file, facts } of files) {
    const path = join(folder, file);
    const { modified } = facts;
    if (modified !== null) ifTaken(() => utimesSync(path, modified / 1000, modified / 1000));
  }
  // The driver keeps the dates it was given by this way as they are, whatever comes later: both are given, last of all.
  if (tools && ntfs.known) set(datesOnNtfs);
  for (const { file, facts } of files) {
    const path = join(folder, file);
    if (facts.readOnly) ifTaken(() => chmodSync(path, lstatSync(path).mode & 0o7777 & ~ANY_WRITES));
  }
  return carriedBy(folder, files, ntfs);
}

function marksOnNtfs({ readOnly, hidden }: FileFacts): OwnAttribute[] {
  if (!readOnly && !hidden) return [];
  const value = Buffer.alloc(4);
  value.writeUInt32BE(NTFS_MARK.archive | (readOnly ? NTFS_MARK.readOnly : 0) | (hidden ? NTFS_MARK.hidden : 0));
  return [{ name: MARKS, value }];
}

/** The date of creation, and that of change where it is known. */
function datesOnNtfs({ created, modified }: FileFacts): OwnAttribute[] {
  if (created === null || !isCountable(created)) return [];
  const dates = modified === null || !isCountable(modified) ? [created] : [created, modified];
  return [{ name: DATES, value: Buffer.concat(dates.map(filetime)) }];
}

/** 100 ns since 1601, big-endian. @param moment UTC milliseconds */
function filetime(moment: number): Buffer {
  const bytes = Buffer.alloc(8);
  bytes.writeBigUInt64BE((BigInt(Math.round(moment)) + BigInt(FILETIME_UNIX)) * 10_000n);
  return bytes;
}

/** Looks at files for what of their facts stands there. */
export function carriedBy(folder: string, files: readonly Carrying[], ntfs: { known?: boolean } = {}): Carried[] {
  const [first] = files;
  const tools = first !== undefined && files.some(({ facts }) => needsTools(facts)) && hasAttributeTools();
  const found = tools
    ? readOwnAttributes(
        folder,
        namesOf(files, ({ attributes }) => attributes.length > 0),
      )
    : new Map();
  if (tools) ntfs.known ??= isNtfs(folder, first.file);
  const onNtfs = tools && ntfs.known === true;
  const marks = onNtfs
    ? readOwnAttributes(
        folder,
        namesOf(files, ({ readOnly, hidden }) => readOnly || hidden),
        MARKS,
      )
    : new Map();
  const dated = ({ created, modified }: FileFacts) => created !== null || modified !== null;
  const dates = onNtfs ? readOwnAttributes(folder, namesOf(files, dated), DATES) : new Map();
  return files.map(({ file, facts }): Carried => {
    const valueIn = (from: ReadonlyMap<string, readonly OwnAttribute[]>, name: string) =>
      from.get(file)?.find((each) => each.name === name)?.value;
    const bits = bigEndian(valueIn(marks, MARKS));
    const marked = (mark: number) => bits !== null && (bits & mark) !== 0;
    const status = statusOf(join(folder, file));
    // What the driver has is what will stand there: its answers to the system may be older.
    const [created, modified] = onNtfs ? momentsIn(valueIn(dates, DATES)) : [null, status?.mtimeMs ?? null];
    return {
      modified: isSame(modified, facts.modified),
      readOnly: facts.readOnly && (onNtfs ? marked(NTFS_MARK.readOnly) : status !== null && (status.mode & ANY_WRITES) === 0),
      hidden: facts.hidden && marked(NTFS_MARK.hidden),
      created: isSame(created, facts.created),
      streams: facts.attributes
        .filter(({ name, value }) => {
          const there = valueIn(found, name);
          return there !== undefined && Buffer.from(there).equals(value);
        })
        .map(({ stream }) => stream),
    };
  });
}

const isSame = (there: number | null, expected: number | null): boolean =>
  there !== null && expected !== null && Math.abs(there - expected) <= DATE_GRAIN_MS;

/** The dates of creation and of change in the driver's answer, UTC milliseconds. */
function momentsIn(bytes: Uint8Array | undefined): [number | null, number | null] {
  const value = Buffer.from(bytes ?? []);
  const moment = (at: number) => (value.length >= at + 8 ? Number(value.readBigUInt64BE(at) / 10_000n) - FILETIME_UNIX : null);
  return [moment(0), moment(8)];
}

const namesOf = (files: readonly Carrying[], wanted: (facts: FileFacts) => boolean): string[] =>
  files.filter(({ facts }) => wanted(facts)).map(({ file }) => file);

const bigEndian = (bytes: Uint8Array | undefined): number | null => (bytes?.length === 4 ? Buffer.from(bytes).readUInt32BE() : null);

/** Does what a file system may refuse (dates it cannot count, rights it does not know): what came of it is read again. */
function ifTaken(change: () => void): void {
  try {
    change();
  } catch {
    // As with attributes that are not taken: seen when it is read.
  }
}

function statusOf(path: string): Stats | null {
  try {
    return lstatSync(path);
  } catch {
    return null;
  }
}
