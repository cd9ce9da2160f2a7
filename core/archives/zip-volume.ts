import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { type Checkpoint, numberCheckpoint, readNumberCheckpoint, readTextCheckpoint, textCheckpoint } from "../bytes/checkpoint";
import { mostCoded } from "../bytes/codecs";
import { EMPTY_LAYOUT, layoutOf, type Segment } from "../bytes/layout";
import type { Range } from "../bytes/range-set";
import {
  absent,
  type Content,
  type FileRecord,
  type FileSystem,
  FileSystemError,
  type Placed,
  type RecordBatch,
} from "../filesystems/file-record";
import { METHOD } from "../formats/zip/layout";
import { ownPath } from "./archive";
import { decodeName } from "./member-names";
import { CODING_OF, packedThere } from "./zip-codings";
import type { SalvagedMember } from "./zip-judge";
import { describeListing, describeUnread, findListing, UNSIZED, type ZipListing } from "./zip-listing";
import { type SalvageFrom, ZipSalvage } from "./zip-salvage";

/** Opens a ZIP archive as a store of files. @throws FileSystemError when it does not begin with the source */
export function openZip(disk: ByteSource, start: number, length: number): FileSystem {
  if (start !== 0 || length !== disk.size) throw new FileSystemError("An archive begins with its source's first byte.");
  return new ZipVolume(disk);
}

/** Bytes of a unit of work where nothing says how many members there are. */
const UNIT = 512;

class ZipVolume implements FileSystem {
  readonly clusterSize = 1;
  readonly label = null;
  readonly localTimes = true;
  readonly allocation = null;
  readonly allocationStart = 0;
  readonly #reader: BlockReader;
  #known: ZipListing | undefined;

  constructor(private readonly disk: ByteSource) {
    this.#reader = new BlockReader(disk);
  }

  get notes(): readonly string[] {
    return describeListing(this.#listing());
  }

  /** Light: by the list of contents, else from header to header; no content is looked at. Units of work are members, or of headers records of 512 bytes. */
  *readRecords(from: Checkpoint | null, step: number): Generator<RecordBatch, void, void> {
    const listing = this.#listing();
    const given = readNumberCheckpoint(from);
    const total = Math.max(1, listing.count ?? Math.ceil(this.disk.size / UNIT));
    let records: FileRecord[] = [];
    let [index, reached] = [0, 0];
    const batch = (done: number): RecordBatch => ({ records, resume: numberCheckpoint(index), done, total });
    for (const member of listing.members()) {
      index += 1;
      reached = listing.count === null ? Math.floor((member.dataAt ?? 0) / UNIT) : index;
      if (index <= given) continue;
      const record = toRecord(member, index, this.disk);
      if (record) records.push(record);
      if (records.length < step) continue;
      yield batch(Math.min(total, reached));
      records = [];
    }
    yield batch(total);
  }

  /** Thorough: every header, entry of a list and stretch of packed data there is; every checksum is compared. Units of work are bytes. */
  *readThorough(from: Checkpoint | null, step: number, part?: Range): Generator<RecordBatch, void, void> {
    const read = part ?? { start: 0, end: this.disk.size };
    const total = Math.max(1, read.end - read.start);
    const salvage = new ZipSalvage(this.disk, read, this.#bases(), from === null ? null : (readTextCheckpoint(from) as SalvageFrom));
    let records: FileRecord[] = [];
    const batch = (done: number): RecordBatch => ({ records, resume: textCheckpoint(salvage.checkpoint()), done, total });
    for (const member of salvage.members()) {
      const record = member && toRecord(member, salvage.count, this.disk);
      if (record) records.push(record);
      if (member && records.length < step) continue;
      yield batch(Math.floor(total * salvage.share));
      records = [];
    }
    yield batch(total);
  }

  #bases(): number[] {
    return [0, ...(this.disk.seams ?? [])];
  }

  /** How the list of contents leads to what it names. All of it is gone through once. */
  #listing(): ZipListing {
    this.#known ??= findListing(this.disk, this.#reader, this.#bases());
    return this.#known;
  }
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

const LOOK_FOR_END = "A thorough reading looks for its end.";
const WHERE_IT_IS = "What stands behind its header may be listed by itself, without a name.";

const NOTHING_GONE = { usedByOthers: 0, takenLater: 0, lost: 0 };

function contentOf(found: SalvagedMember, disk: ByteSource, notes: string[]): Content {
  const { member, dataAt, packed, plain, checksum, present } = found;
  const method = member?.method ?? (found.by === "bytes" ? METHOD.stored : METHOD.deflated);
  const unread = describeUnread({ encrypted: member?.encrypted ?? false, method });
  if (unread !== null) return absent(member?.encrypted ? "encrypted" : "not-followed", unread);
  if (found.unsized)
    return absent("not-followed", `${UNSIZED} ${checksum === "unlooked" ? LOOK_FOR_END : WHERE_IT_IS} The size shown is none.`);
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
