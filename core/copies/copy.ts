import type { ByteSource } from "../bytes/byte-source";
import { diskRuns, type Layout, LayoutSource, markForeign } from "../bytes/layout";
import { type Range, RangeSet } from "../bytes/range-set";
import { type Absence, ALL_BYTES_THERE, type ByteEvidence, type FileRecord, type Placed } from "../filesystems/file-record";
import { type ContentFinding, examineContent } from "../formats/registry";
import { traitsOf, underChecksums } from "../formats/traits";
import type { CopyFacts } from "./facts";
import type { Condition, Laid, Place } from "./vocabulary";

/** The facts a condition is derived from. All counts are bytes of the copy's content. */
export interface Evidence extends Omit<ByteEvidence, "foreign"> {
  readonly unreadable: number;
  readonly content: ContentFinding | null;
  /**
   * Of what a backup kept, or what stands where a checksum of its image does not match: its own checksum agrees, or nothing of the kind was
   * compared. Then only content that is under checksums itself is whole: damage in anything else may not show.
   */
  readonly kept?: "vouched" | "unproven";
  /** Its pieces were laid by hand, or found by a longer look than that of a sweep. */
  readonly laid?: Laid;
}

/** A file of a folder that holds the content of others. Bytes, UTC milliseconds. */
export interface HolderFile {
  readonly size: number;
  readonly modified: number | null;
  readonly created: number | null;
}

/** One recoverable instance of a file. */
export interface Copy extends Omit<FileRecord, "content" | "notes" | "leftover"> {
  readonly place: Place;
  /** Where its content stands; null: it cannot be read (`absent` says why), or there is none. */
  readonly layout: Layout | null;
  readonly absent?: Absence | null;
  /** In a known place: by which rule, and under which path it was really found; its own path is where the client had it. */
  readonly found?: { readonly rule: string; readonly path: string } | null;
  readonly condition: Condition;
  /** The share of the content's bytes that is still there, 0 … 1. */
  readonly survival: number;
  readonly evidence: Evidence;
  /** What its content says of itself, where it was looked into. */
  readonly facts?: CopyFacts | null;
  /**
   * The span it stands for: from the first state that has it until the next one that says otherwise, both ends included, as UTC milliseconds;
   * `until` null: nothing says otherwise. Not given: one state alone.
   */
  readonly present?: { readonly from: number; readonly until: number | null };
  /** The backup set, or the snapshots, it was kept in (`SetFacts.id`); not given: it is of none. */
  readonly set?: string;
  /** What distinguishes versions of one file: of two copies of one item in one store with the same, the content is the same. */
  readonly sameAs?: string;
  /** The path under which the same file stands in the state that does not have it here any more: it was moved or renamed. */
  readonly movedTo?: string;
  /**
   * In a folder of this computer: the size and dates of the file that holds the content, where that is another than the content's own, and
   * further files the content stands in. The layout counts over all of them, one behind the other.
   */
  readonly holder?: HolderFile & { readonly further?: readonly (HolderFile & { readonly path: string })[] };
  readonly notes: readonly string[];
}

/** A file system's record as a copy: its content is looked at, and its condition derived from the evidence. */
export function copyOfRecord(record: FileRecord, disk: ByteSource): Copy {
  const { content } = record;
  if (content.kind !== "placed") return judge(record, null, disk);
  const { likeliest, others } = content;
  const first = judge(record, likeliest, disk);
  if (others.length === 0 || proven(first)) return first;
  let best = first;
  for (const place of others) {
    const other = judge(record, place, disk);
    // Where another place would do as well, the first one is no more than a guess.
    if (first.condition === "whole" && standing(other) >= AGREES) return judge(record, { ...likeliest, sure: false }, disk);
    if (first.condition !== "whole" && standing(other) > standing(best)) best = other;
    if (proven(best)) break;
  }
  return best;
}

const proven = ({ condition, evidence: { content } }: Copy) => condition === "whole" && content?.finding === "agrees" && content.checked;
const AGREES = 3;

/** How much the content speaks for a supposed layout: it opens, it begins as it should, it says nothing, it is something else. */
function standing({ condition, evidence: { content } }: Copy): number {
  if (condition === "whole") return 4;
  if (condition === "name-only") return 0;
  if (content?.finding === "agrees") return AGREES;
  // Zeros speak for no place: what the file system recorded is better.
  if (content?.finding === "zeros") return 0;
  return content?.finding === "damaged" ? 2 : 1;
}

/** Absent content of which not a byte is here; other absent content is here and stays closed. */
const NOT_HERE: ReadonlySet<Absence> = new Set(["cloud-only", "record-damaged", "named-only"]);

function judge(record: FileRecord, place: Placed | null, disk: ByteSource): Copy {
  const { type, size, state, content } = record;
  const layout = place?.layout ?? null;
  const bytes = place?.evidence ?? ALL_BYTES_THERE;
  const absent = content.kind === "absent" ? content : null;
  const unreadable = layout ? unreadableBytes(layout, disk) : 0;
  const unstored = layout ? unstoredBytes(layout, disk) : 0;
  const doubtful = layout && disk.doubts ? doubtfulBytes(layout, disk.doubts) : 0;
  const gone = bytes.usedByOthers + bytes.takenLater + bytes.lost + unreadable + unstored;
  // Live files are not read through: their records vouch for them. A deleted file's bytes may have had other owners.
  // Bytes held in the record itself had none: what they are called says nothing about whose they are.
  const look =
    layout &&
    !place?.vouched &&
    !place?.unlooked &&
    (state === "deleted" || place?.sure === false || place?.unguarded || doubtful > 0) &&
    gone < size &&
    layout.segments.some((segment) => segment.kind !== "held");
  // Field by field, here and below: spreading objects costs more than all the rest, and records come by the million.
  const evidence: Filling<Evidence> = {
    usedByOthers: bytes.usedByOthers,
    takenLater: bytes.takenLater,
    lost: absent && NOT_HERE.has(absent.why) ? size : bytes.lost + unstored,
    unreadable,
    content: look ? examineContent(new LayoutSource(disk, layout), record.name) : null,
  };
  if (bytes.shared) evidence.shared = bytes.shared;
  if (bytes.inDoubt) evidence.inDoubt = bytes.inDoubt;
  if (record.backup || doubtful > 0) evidence.kept = place?.vouched ? "vouched" : "unproven";
  const assumed = place?.sure === false || place?.unlooked === true;
  const { condition, survival } = conditionOf({ type, size, state, layout, absent: absent?.why ?? null }, evidence, assumed);
  const notes = [...record.notes];
  if (place?.note) notes.push(place.note);
  if (absent?.note) notes.push(absent.note);
  if (unstored > 0) notes.push(`${unstored} bytes stand in parts of the image that are not there: they were never stored, or are lost.`);
  if (doubtful > 0)
    notes.push(`${doubtful} bytes of it stand where a checksum of the image does not match: they may be others than were written.`);
  notes.push(...explain(evidence));
  if (condition === "whole" && state === "deleted" && look && !(evidence.content?.finding === "agrees" && evidence.content.checked))
    notes.push(RESTS_ON_RECORDS);
  const copy: Filling<Copy> = {
    place: record.backup ? "backup" : record.leftover ? "leftover-record" : "file-record",
    reference: record.reference,
    state,
    type,
    path: record.path,
    name: record.name,
    rawName: record.rawName,
    size,
    created: record.created,
    modified: record.modified,
    changed: record.changed,
    deletedAt: record.deletedAt ?? null,
    layout: layout && bytes.foreign ? markForeign(layout, bytes.foreign) : layout,
    absent: absent?.why ?? null,
    system: record.system,
    streams: record.streams,
    links: record.links,
    marks: record.marks ?? 0,
    file: record.file ?? null,
    condition,
    survival,
    evidence,
    notes,
  };
  if (record.localTimes !== undefined) copy.localTimes = record.localTimes;
  if (record.incompleteName) copy.incompleteName = true;
  if (record.backup) {
    // It stands for the state of its set and those after it, until another set says otherwise; where it stands tells it from others of its path.
    copy.backup = record.backup;
    copy.sameAs = record.reference;
    if (record.backup.asOf !== null) copy.present = { from: record.backup.asOf, until: null };
  }
  return copy;
}

/** An object that is being filled in. */
type Filling<T> = { -readonly [Name in keyof T]: T[Name] };

/** A file may have had the place for a while and be gone without a trace: on volumes in use that is so with about one such copy in fifty. */
export const RESTS_ON_RECORDS =
  "That it is whole rests on the records alone: its place on the disk is free, and no known record has it. Nothing in its content proves it.";

const isWhollyUnderChecksums = (content: ContentFinding | null): boolean =>
  content?.finding === "agrees" && content.checked && traitsOf({ id: content.format }).checksums === "all";

const isUnderChecksums = (content: ContentFinding | null): boolean =>
  content?.finding === "agrees" && content.checked && underChecksums(traitsOf({ id: content.format }));

/** Bytes of the content that the drive refused so far, beside those whose place is not known. */
function unreadableBytes(layout: Layout, disk: ByteSource): number {
  // Nearly every drive is read without a fault: then no layout needs to be gone through.
  if (disk.unreadable(0, disk.size).length === 0) return 0;
  const lost = layout.segments.reduce((sum, segment) => sum + (segment.kind === "lost" ? segment.length : 0), 0);
  return Math.max(0, lengthOf(new LayoutSource(disk, layout).unreadable(0, layout.size)) - lost);
}

/** Bytes of the content that stand in parts of the disk that its image does not have. */
function unstoredBytes(layout: Layout, disk: ByteSource): number {
  if (!disk.holes) return 0;
  return diskRuns(layout).reduce((sum, { at, length }) => sum + lengthOf(disk.holes?.(at, length) ?? []), 0);
}

/** Bytes of the content that stand where a checksum of the image speaks against them. */
function doubtfulBytes(layout: Layout, doubts: readonly Range[]): number {
  if (doubts.length === 0) return 0;
  const set = DOUBTS.get(doubts) ?? RangeSet.from(doubts);
  DOUBTS.set(doubts, set);
  // What stands in the file system's own records came out of such bytes as likely as not.
  const held = layout.segments.reduce((sum, { kind, length }) => sum + (kind === "held" ? length : 0), 0);
  return diskRuns(layout).reduce((sum, { at, length }) => sum + set.overlap(at, at + length), held);
}

const DOUBTS = new WeakMap<readonly Range[], RangeSet>();

const lengthOf = (ranges: readonly { start: number; end: number }[]) => ranges.reduce((sum, range) => sum + range.end - range.start, 0);

/** Derives the word from the evidence. "Whole" only when every byte is accounted for and nothing speaks against it. */
export function conditionOf(
  record: Pick<Copy, "type" | "size" | "layout" | "state" | "absent">,
  evidence: Evidence,
  assumed = false,
): { condition: Condition; survival: number } {
  if (record.type === "folder") return { condition: "whole", survival: 1 };
  if (record.absent) return { condition: NOT_HERE.has(record.absent) ? "name-only" : "not-checked", survival: 0 };
  if (!record.layout && record.size > 0) return { condition: "not-checked", survival: 0 };
  if (!record.layout || record.size === 0) return { condition: "whole", survival: 1 };
  const gone = evidence.usedByOthers + evidence.takenLater + evidence.lost + evidence.unreadable;
  // Holes were never stored: of a sparse file only the stored bytes can survive.
  const stored = record.layout.segments.reduce((sum, segment) => sum + (segment.kind === "hole" ? 0 : segment.length), 0);
  const survival = stored === 0 ? 1 : Math.max(0, 1 - gone / stored);
  if (survival === 0) return { condition: "name-only", survival };
  const { content } = evidence;
  // Zeros prove nothing: the drive may have erased the bytes, and a file of holes has none of its own.
  if (content?.finding === "zeros") return { condition: "not-checked", survival: 0 };
  if (survival < 1) return { condition: "partial", survival };
  // What breaks off is the share of what it should have been.
  if (content?.finding === "damaged")
    return { condition: "partial", survival: Math.min(0.99, Math.max(0.01, content.at / Math.max(record.size, content.expected ?? 0))) };
  if (content?.finding === "differs") return { condition: "not-checked", survival };
  // Sound content of another time would look as sound.
  if (evidence.inDoubt) return { condition: "not-checked", survival };
  // Where the bytes are only supposed to be these, nothing but the content's own structure makes the copy whole.
  if (evidence.kept === "unproven" && !isUnderChecksums(content)) return { condition: "not-checked", survival };
  // Who lays pieces by hand sees what comes out, not whether each byte is right: checksums over all of them say that.
  if (evidence.laid === "by-hand" && !isWhollyUnderChecksums(content)) return { condition: "not-checked", survival };
  if (assumed && !(content?.finding === "agrees" && content.checked)) return { condition: "not-checked", survival };
  return { condition: "whole", survival };
}

/** What a person should know of the evidence. */
export function explain(evidence: Evidence): string[] {
  const notes: string[] = [];
  const { content } = evidence;
  if (evidence.unreadable > 0) notes.push(`${evidence.unreadable} bytes of it could not be read from the drive.`);
  if (evidence.usedByOthers > 0) notes.push(`${evidence.usedByOthers} bytes stand in clusters that other files use now.`);
  if (evidence.takenLater > 0) notes.push(`${evidence.takenLater} bytes stand in clusters that a file deleted later had taken.`);
  if (evidence.inDoubt) notes.push(`${evidence.inDoubt} bytes of it are in doubt: what should vouch for them is damaged.`);
  if (content?.finding === "differs")
    notes.push(
      `The content does not begin like a ${content.expected}: its name says another type than it has, or something else was written over it.`,
    );
  if (content?.finding === "damaged") notes.push(`The content is damaged at byte ${content.at}: ${content.reason}.`);
  if (content?.finding === "zeros")
    notes.push("The content is nothing but zeros: the drive may have erased these bytes itself, or none were ever stored.");
  return notes;
}
