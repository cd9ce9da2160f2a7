import type { RangeSet } from "../../bytes/range-set";
import { Claims } from "../claims";
import { claimedRuns } from "./claimed-runs";
import { NAMESPACE, RECORD, RECORD_FLAG, SYSTEM_RECORD } from "./layout";
import {
  type FileName,
  fileNames,
  fileNamesInSlack,
  type MftRecord,
  type MftReference,
  parseMftRecord,
  readReference,
  standardTimes,
} from "./mft-record";
import type { MftTable } from "./mft-table";

const MAGIC = [0, 8, 16, 24].map((bits) => (RECORD.magicValue >>> bits) & 0xff);
const u16 = (bytes: Uint8Array, at: number) => (bytes[at] as number) | ((bytes[at + 1] as number) << 8);
const SEEN = 1;
const IN_USE = 2;
const DIRECTORY = 4;
/** Deeper trees do not occur; a damaged one may run in a circle. */
const MAX_DEPTH = 512;
const MAX_EXTENSIONS = 4096;

const NO_RECORDS: MftRecord[] = [];

/** Prefix of paths whose parents are not known. */
export const UNKNOWN_PARENT = "/?";

interface Directory {
  readonly name: string;
  readonly parent: MftReference;
}

/** The name to show of several: the long one before the 8.3 alias. */
export function bestName(names: readonly FileName[]): FileName | undefined {
  return names.find((name) => name.namespace !== NAMESPACE.dos) ?? names[0];
}

/**
 * What must be known of the whole table before any record can be known in full: which records are folders and how
 * they are called, which records extend which, and which deleted files claim the same clusters.
 * A few bytes a record, so that a table of millions fits.
 */
export class MftIndex {
  readonly #sequence: Uint16Array;
  readonly #state: Uint8Array;
  readonly #directories = new Map<number, Directory>();
  readonly #extensions = new Map<number, number[]>();
  readonly #takenLater: Map<number, RangeSet>;
  readonly #paths = new Map<number, string>();

  constructor(private readonly table: MftTable) {
    this.#sequence = new Uint16Array(table.recordCount);
    this.#state = new Uint8Array(table.recordCount);
    const claims = new Claims();
    table.walk(0, table.recordCount, (bytes, number) => this.#note(bytes, number, claims));
    this.#nameDirectoriesWithExtensions();
    this.#takenLater = claims.takenLater();
  }

  /** Extension records that belong to this base record, whether it is live or deleted. */
  extensionsOf(base: MftRecord): MftRecord[] {
    const numbers = this.#extensions.get(base.number);
    if (!numbers) return NO_RECORDS;
    const found: MftRecord[] = [];
    for (const number of numbers) {
      const record = this.table.read(number);
      if (record?.base && record.inUse === base.inUse && sameFile(record.base.sequence, base.sequence, base.inUse)) found.push(record);
    }
    return found;
  }

  /** The numbers of all folders, live and deleted. */
  get folders(): number[] {
    return [...this.#directories.keys()].sort((a, b) => a - b);
  }

  /** What the table has under a record's number: the sequence number, and whether it is in use; null: nothing sound. */
  present(record: number): { sequence: number; inUse: boolean } | null {
    const state = this.#state[record] ?? 0;
    return (state & SEEN) === 0 ? null : { sequence: this.#sequence[record] as number, inUse: (state & IN_USE) !== 0 };
  }

  /** Clusters this deleted record claims that a file deleted later had taken from it. */
  takenLater(number: number): RangeSet | undefined {
    return this.#takenLater.get(number);
  }

  /** Names of a record, those in its extensions and (of a deleted one) in the slack of its records included. */
  namesOf(record: MftRecord, extensions: readonly MftRecord[]): FileName[] {
    const names = extensions.length === 0 ? fileNames(record) : [record, ...extensions].flatMap(fileNames);
    return names.length > 0 || record.inUse ? names : [...extensions, record].flatMap(fileNamesInSlack);
  }

  /** The path of a folder, "" for the root; starts with `UNKNOWN_PARENT` where a parent's record was reused. */
  pathOf(reference: MftReference, depth = 0): string {
    if (reference.record === SYSTEM_RECORD.root) return "";
    const { record } = reference;
    if (depth > MAX_DEPTH || record >= this.#state.length) return UNKNOWN_PARENT;
    const state = this.#state[record] as number;
    const matches = sameFile(reference.sequence, this.#sequence[record] as number, (state & IN_USE) !== 0);
    const directory = this.#directories.get(record);
    if ((state & DIRECTORY) === 0 || !matches || !directory) return UNKNOWN_PARENT;
    const kept = this.#paths.get(record);
    if (kept !== undefined) return kept;
    // Entered before the parents are followed, so that a circle ends here.
    this.#paths.set(record, UNKNOWN_PARENT);
    const path = `${this.pathOf(directory.parent, depth + 1)}/${directory.name}`;
    this.#paths.set(record, path);
    return path;
  }

  #note(bytes: Uint8Array, number: number, claims: Claims): void {
    // Byte by byte, without a cursor: most records are live plain files and end here, and they come by the million.
    for (let i = 0; i < 4; i += 1) if (bytes[RECORD.magic + i] !== MAGIC[i]) return;
    const flags = u16(bytes, RECORD.flags);
    const inUse = (flags & RECORD_FLAG.inUse) !== 0;
    const directory = (flags & RECORD_FLAG.isDirectory) !== 0;
    this.#sequence[number] = u16(bytes, RECORD.sequenceNumber);
    this.#state[number] = SEEN | (inUse ? IN_USE : 0) | (directory ? DIRECTORY : 0);
    let extension = false;
    for (let i = 0; i < 8; i += 1) if (bytes[RECORD.baseMftRecord + i] !== 0) extension = true;
    if (inUse && !directory && !extension) return;
    const record = parseMftRecord(bytes, number);
    if (!record) return;
    const base = readReference(record.cursor, RECORD.baseMftRecord);
    if (extension) {
      const known = this.#extensions.get(base.record) ?? [];
      if (known.length < MAX_EXTENSIONS) this.#extensions.set(base.record, [...known, number]);
    }
    if (directory && !extension) {
      const name = bestName(fileNames(record));
      if (name) this.#directories.set(number, { name: name.name, parent: name.parent });
    }
    if (!inUse)
      claims.add(
        extension ? base.record : number,
        claimedRuns(record, this.table.geometry.clusters, 1),
        standardTimes(record)?.mftChanged ?? null,
      );
  }

  #nameDirectoriesWithExtensions(): void {
    for (const number of this.#extensions.keys()) {
      if (((this.#state[number] ?? 0) & DIRECTORY) === 0 || this.#directories.has(number)) continue;
      const record = this.table.read(number);
      const name = record && bestName(this.namesOf(record, this.extensionsOf(record)));
      if (name) this.#directories.set(number, { name: name.name, parent: name.parent });
    }
  }
}

/**
 * Whether a reference's sequence number means the file now in (or last in) the record. Deleting raises the record's
 * number by one, so a reference made while the file lived is one short of it.
 */
export function sameFile(referenced: number, present: number, inUse: boolean): boolean {
  if (referenced === present) return true;
  const afterDeletion = referenced === 0xffff ? 1 : referenced + 1;
  return !inUse && present === afterDeletion;
}
