import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { type Checkpoint, numberCheckpoint, readNumberCheckpoint } from "../bytes/checkpoint";
import { mostCoded } from "../bytes/codecs";
import { EMPTY_LAYOUT, layoutOf, type Segment } from "../bytes/layout";
import { PastEnd } from "../bytes/past-end";
import { type Range, RangeSet } from "../bytes/range-set";
import {
  absent,
  type Content,
  type FileRecord,
  type FileSystem,
  FileSystemError,
  type Placed,
  type RecordBatch,
} from "../filesystems/file-record";
import { LOCAL, METHOD } from "../formats/zip/layout";
import { directoryFromEnd, localMember, MOST_MEMBERS, type ZipMember } from "../formats/zip/members";
import { ownPath } from "./archive";
import { decodeName } from "./member-names";
import { CODING_OF, decodeMember, isRead, packedThere } from "./zip-codings";
import { type SalvagedMember, salvageZip } from "./zip-salvage";

/** Opens a ZIP archive as a store of files. @throws FileSystemError when it does not begin with the source */
export function openZip(disk: ByteSource, start: number, length: number): FileSystem {
  if (start !== 0 || length !== disk.size) throw new FileSystemError("An archive begins with its source's first byte.");
  return new ZipVolume(disk);
}

const LIST_IS_GONE = "The list of contents of this archive is gone: its files are found by what stands before each of them.";

class ZipVolume implements FileSystem {
  readonly clusterSize = 1;
  readonly label = null;
  readonly localTimes = true;
  readonly allocation = null;
  readonly allocationStart = 0;
  readonly #reader: BlockReader;
  #listed: SalvagedMember[] | null | undefined;
  /** Files of the list that are not found. */
  #missing = 0;

  constructor(private readonly disk: ByteSource) {
    this.#reader = new BlockReader(disk);
  }

  get notes(): readonly string[] {
    if (!this.#byList()) return [LIST_IS_GONE];
    const count = this.#missing;
    if (count === 0) return [];
    const of = count === 1 ? "One of its files does" : `${count} of its files do`;
    return [`${of} not stand where the list of contents says, nor where other headers stand: a thorough reading looks for more.`];
  }

  /** Light: by the list of contents, else from header to header; no content is looked at. Units of work are members. */
  *readRecords(from: Checkpoint | null, step: number): Generator<RecordBatch, void, void> {
    const members = this.#byList() ?? [...byHeaders(this.#reader)];
    yield* inBatches(members, this.disk, members.length, null, readNumberCheckpoint(from), step);
  }

  /** Thorough: every header, entry of a list and stretch of packed data there is; every checksum is compared. Units of work are bytes. */
  *readThorough(from: Checkpoint | null, step: number, part?: Range): Generator<RecordBatch, void, void> {
    const read = part ?? { start: 0, end: this.disk.size };
    yield* inBatches(salvageZip(this.#reader, read, this.#bases()), this.disk, 0, read, readNumberCheckpoint(from), step);
  }

  #bases(): number[] {
    return [0, ...(this.disk.seams ?? [])];
  }

  /** What the list of contents names; null: it is gone or damaged, or does not lead to most of what it names. */
  #byList(): SalvagedMember[] | null {
    if (this.#listed !== undefined) return this.#listed;
    this.#listed = null;
    try {
      const bases = this.#bases();
      const last = bases.at(-1) as number;
      const directory = directoryFromEnd(this.#reader);
      // In a split archive the place of the list counts from the part it is in.
      const found = "members" in directory ? directory : last > 0 ? directoryFromEnd(new BlockReader(tailOf(this.disk, last))) : null;
      if (found && "members" in found) {
        // A program in front of the archive moves everything.
        const shift = bases.length === 1 ? found.at - found.statedAt : 0;
        const members = found.members.map((member) => this.#listedMember(member, bases, shift));
        const places = found.members.map((member) => this.#placeOf(member, bases));
        const led = members.filter((member) => member.dataAt !== null).length;
        // That nothing can be read at a place says nothing against the list.
        const isThere = ({ dataAt }: SalvagedMember, index: number) =>
          dataAt !== null || this.disk.unreadable(places[index] as number, LOCAL.size).length > 0;
        if (led === members.length) this.#listed = members;
        else if (members.filter(isThere).length * 2 > members.length) {
          this.#listed = withHeaders(members, places, byHeaders(this.#reader));
          this.#missing = this.#listed.filter(({ dataAt }) => dataAt === null).length;
        }
      }
    } catch (error) {
      if (!(error instanceof PastEnd)) throw error;
    }
    return this.#listed;
  }

  #listedMember(member: ZipMember, bases: readonly number[], shift: number): SalvagedMember {
    const base = this.#placeOf(member, bases);
    const reader = this.#reader;
    const at = [base, base + Math.max(0, shift)].find((each) => each + LOCAL.size <= reader.size && reader.has(each, LOCAL.mark));
    const dataAt = at === undefined ? null : at + LOCAL.size + reader.u16(at + LOCAL.nameLength) + reader.u16(at + LOCAL.extraLength);
    const there = dataAt === null ? { packed: member.packed, present: 0 } : this.#thereOf(member, dataAt);
    return { member, dataAt, plain: member.plain, checksum: dataAt === null ? "none" : "unlooked", by: "list", ...there };
  }

  /** What there is of a member, as far as that is known without looking: of one that reaches into what cannot be read, what stands before that. */
  #thereOf({ method, packed, plain, encrypted }: ZipMember, dataAt: number): { packed: number; present: number } {
    const isAsItIs = method === METHOD.stored || encrypted || !isRead(method);
    const there = isAsItIs ? packed : packedThere(this.disk, dataAt, packed);
    if (there === packed) return { packed, present: plain };
    return { packed: there, present: Math.min(plain, decodeMember(this.#reader, method, dataAt, dataAt + there, plain).present) };
  }

  #placeOf({ disk, at }: ZipMember, bases: readonly number[]): number {
    return (bases[Math.min(disk, bases.length - 1)] as number) + at;
  }
}

/**
 * Completes a list of contents that does not lead to all it names by headers that stand elsewhere: they say where those files are, or are of files
 * that the list does not name. What stands within a file that the list does name is that one's content.
 * @param places where each of the listed is said to begin
 */
function withHeaders(listed: readonly SalvagedMember[], places: readonly number[], headers: Iterable<SalvagedMember>): SalvagedMember[] {
  const starts = new Set(listed.map(({ dataAt }) => dataAt));
  const rangesOf = (which: (member: SalvagedMember) => boolean) =>
    RangeSet.from(
      listed
        .map((each, index) => ({ each, start: each.dataAt ?? (places[index] as number) }))
        .filter(({ each }) => which(each))
        .map(({ each, start }) => ({ start, end: start + (each.member?.packed ?? each.packed) }))
        .sort((x, y) => x.start - y.start),
    );
  const [held, named] = [rangesOf(({ dataAt }) => dataAt !== null), rangesOf(() => true)];
  const isIn = (ranges: RangeSet, { dataAt }: SalvagedMember) => dataAt !== null && ranges.overlap(dataAt, dataAt + 1) > 0;
  const lost = new Map<string, SalvagedMember[]>();
  for (const each of listed) if (each.dataAt === null) lost.set(nameOf(each), [...(lost.get(nameOf(each)) ?? []), each]);
  const found = new Map<SalvagedMember, SalvagedMember>();
  const others: SalvagedMember[] = [];
  for (const header of headers) {
    // What stands within a file that was found is no lost one, whatever it is called.
    if (starts.has(header.dataAt) || isIn(held, header)) continue;
    const [same] = lost.get(nameOf(header)) ?? [];
    if (same?.member && header.member && (header.member.crc === 0 || header.member.crc === same.member.crc)) {
      found.set(same, { ...same, dataAt: header.dataAt, checksum: "unlooked", present: same.plain });
      lost.get(nameOf(header))?.shift();
    } else if (!isIn(named, header)) others.push(header);
  }
  return [...listed.map((each) => found.get(each) ?? each), ...others];
}

const nameOf = ({ member }: SalvagedMember) => Buffer.from(member?.raw ?? []).toString("latin1");

const tailOf = (source: ByteSource, from: number): ByteSource => ({
  size: source.size - from,
  read: (at, into) => source.read(from + at, into),
  unreadable: () => [],
});

/** Members from header to header; one whose size comes after its data is passed over to the next header. */
function* byHeaders(reader: BlockReader): Generator<SalvagedMember, void, void> {
  let count = 0;
  for (let at = reader.find(LOCAL.mark, 0); at >= 0 && count < MOST_MEMBERS; count += 1) {
    let next = -1;
    try {
      const local = localMember(reader, at);
      if (local) {
        next = local.dataAt + local.packed;
        const following = local.sized && next < reader.size && reader.has(next, LOCAL.mark) ? next : reader.find(LOCAL.mark, local.dataAt);
        if (local.sized || following >= 0)
          yield {
            member: local,
            dataAt: local.dataAt,
            packed: local.sized ? local.packed : following - local.dataAt,
            plain: local.plain,
            checksum: "unlooked",
            present: local.plain,
            by: "header",
          };
        next = following;
      } else next = reader.find(LOCAL.mark, at + 1);
    } catch (error) {
      if (!(error instanceof PastEnd)) throw error;
      return;
    }
    at = next;
  }
}

/** Members in batches. @param disk the archive @param part of a thorough reading: what is read, in which its progress is counted */
function* inBatches(
  members: Iterable<SalvagedMember>,
  disk: ByteSource,
  count: number,
  part: Range | null,
  from: number,
  step: number,
): Generator<RecordBatch, void, void> {
  let records: FileRecord[] = [];
  let index = 0;
  let reached = 0;
  const batch = (over: boolean): RecordBatch => {
    const total = part ? part.end - part.start : Math.max(1, count);
    return { records, resume: numberCheckpoint(index), done: over ? total : Math.min(total, part ? reached : index), total };
  };
  for (const member of members) {
    index += 1;
    reached = Math.max(reached, (member.dataAt ?? 0) + member.packed - (part?.start ?? 0));
    if (index <= from) continue;
    const record = toRecord(member, index, disk);
    if (record) records.push(record);
    if (records.length >= step) {
      yield batch(false);
      records = [];
    }
  }
  yield batch(true);
}

const NAMELESS = "Its header and its entry in the list of contents are gone: it was found by its packed data.";
const REMAINS = "Bytes between two members without a header: as likely as not one that was kept as it is, and whose header is gone.";
const FROM_LIST = "Its header is damaged: its content was found by the list of contents.";

/** @param index tells members of the same name apart @param disk the archive */
function toRecord(found: SalvagedMember, index: number, disk: ByteSource): FileRecord | null {
  const { member, dataAt } = found;
  const shown = member ? decodeName(member.raw, member.utf8) : `Unnamed member at ${dataAt}`;
  const path = ownPath(shown);
  if (path === null) return null;
  const isFolder = member !== null && (shown.endsWith("/") || shown.endsWith("\\"));
  const notes: string[] = [];
  if (!member) notes.push(found.by === "bytes" ? REMAINS : NAMELESS);
  else if (found.by === "list" && found.checksum === "agrees" && found.plain > 0) notes.push(FROM_LIST);
  const name = path.slice(path.lastIndexOf("/") + 1);
  return {
    reference: dataAt === null ? `Entry ${index} of the list` : `Member with its data at ${dataAt}`,
    state: "live",
    type: isFolder ? "folder" : "file",
    path: member ? `/${path}` : `/?/${path}`,
    name,
    ...(member ? {} : { incompleteName: true as const }),
    rawName: member?.raw ?? new Uint8Array(),
    size: isFolder ? 0 : found.plain,
    created: null,
    modified: member?.utc ?? member?.local ?? null,
    changed: null,
    localTimes: member?.utc == null,
    content: isFolder ? { kind: "none" } : contentOf(found, disk, notes),
    backup: { set: null, asOf: null },
    marks: isFolder ? 0 : (member?.marks ?? 0),
    system: false,
    streams: [],
    links: 1,
    notes,
  };
}

const NOTHING_GONE = { usedByOthers: 0, takenLater: 0, lost: 0 };

function contentOf(found: SalvagedMember, disk: ByteSource, notes: string[]): Content {
  const { member, dataAt, packed, plain, checksum, present } = found;
  const method = member?.method ?? (found.by === "bytes" ? METHOD.stored : METHOD.deflated);
  if (member?.encrypted)
    return absent("encrypted", "It is protected by a password in the archive: name, size and date can be read, its content cannot.");
  if (!isRead(method)) return absent("not-followed", "It is compressed in a way that is not followed here.");
  if (plain === 0 && (checksum === "agrees" || checksum === "unlooked"))
    return placedAs({ layout: EMPTY_LAYOUT, evidence: NOTHING_GONE, sure: true });
  if (dataAt === null || (present === 0 && plain > 0))
    return absent("record-damaged", "Where its content stood in the archive is damaged or gone.");
  const coding = CODING_OF[method] ?? null;
  // A size that leads out of the archive is damaged; nothing is unpacked behind what cannot be read.
  const held = packedThere(disk, dataAt, packed);
  if (coding && plain > mostCoded(coding))
    return absent(
      "not-followed",
      `It unpacks to more than ${mostCoded(coding) >> 20} MiB: files of this size are not taken out of archives yet.`,
    );
  const segments: Segment[] = coding
    ? [{ kind: "coded", coding, length: present, from: [{ at: dataAt, length: held }] }]
    : [{ kind: "disk", at: dataAt, length: present }];
  const layout = layoutOf([...segments, { kind: "lost", length: plain - present }], plain);
  const evidence = { ...NOTHING_GONE, lost: plain - present };
  if (checksum === "agrees") return placedAs({ layout, evidence, sure: true, vouched: true });
  if (checksum === "unlooked") return placedAs({ layout, evidence, sure: true, unlooked: true });
  if (checksum === "none")
    return placedAs({ layout, evidence, sure: false, note: "Nothing in the archive says whether its content is right." });
  notes.push(
    plain > present
      ? "Its packed data are damaged: what stands before the damage is there."
      : "Its checksum in the archive does not agree: a part of it is damaged.",
  );
  return placedAs({ layout, evidence: { ...evidence, inDoubt: present }, sure: false });
}

const placedAs = (likeliest: Placed): Content => ({ kind: "placed", likeliest, others: [] });
