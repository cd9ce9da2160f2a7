import type { Layout } from "../../bytes/layout";
import { RangeSet } from "../../bytes/range-set";
import { Claims } from "../claims";
import { absent, type ByteEvidence, type FileRecord, NO_CONTENT, unproven } from "../file-record";
import { macTimeToMs } from "../mac-times";
import { type CatalogIndex, isFileLink } from "./catalog-index";
import { type FileEntry, shownName } from "./catalog-record";
import { type FileDescriber, folderRecord, lostOf, underPaths } from "./files";
import { CNID, FILE_RECORD, FORK_TYPE, JOURNAL_FILES, PRIVATE_FILES } from "./layout";
import type { OverflowExtents } from "./overflow";
import type { NamedPlace, Remnant, Remnants } from "./remnants";

/** The folder of linked files' content, as names are shown. */
const PRIVATE_NAME = shownName(Buffer.from(PRIVATE_FILES.folder, "utf16le").swap16());

/** The volume that remnants were found on. */
interface Around {
  readonly index: CatalogIndex;
  readonly files: FileDescriber;
  readonly overflow: OverflowExtents;
  /** Bytes. */
  readonly blockSize: number;
  /** What of a layout stands in blocks in use, or in those that a file deleted later had. @param unit bytes of the blocks in which `taken` counts */
  evidence(layout: Layout, taken: RangeSet | undefined, unit: number): ByteEvidence;
}

/** Describes files and folders of which only remnants of records are left. */
export class GoneFiles {
  constructor(private readonly volume: Around) {}

  /** What each of them is, to be described when it is asked for. @param before remnants that were described already */
  units(remnants: Remnants, before: Remnants | null, blockSize = this.volume.blockSize): (() => FileRecord[])[] {
    const { index, overflow } = this.volume;
    const known = new Set(before?.list().map(identity));
    const gone = remnants.list().filter((each) => !known.has(identity(each)) && isGone(each, index));
    const claims = new Claims();
    /** @param scale blocks in which is counted in one in which the record counts */
    const claim = ({ entry, cnid }: Remnant, owner: number, scale: number) => {
      if (entry.kind !== "file") return;
      const changed = macTimeToMs(Math.max(entry.facts.attributeModDate, entry.facts.createDate));
      const runs = overflow.extentsOf(cnid, FORK_TYPE.data, entry.data, true);
      claims.add(
        owner,
        runs.map(({ start, count }) => ({ start: Math.floor(start * scale), end: Math.ceil((start + count) * scale) })),
        changed,
      );
    };
    gone.forEach((remnant, owner) => {
      claim(remnant, owner, 1);
    });
    // What was described already claims its blocks too: each as an owner of its own, which comes behind all of these.
    before?.list().forEach((remnant, index) => {
      if (isGone(remnant, this.volume.index)) claim(remnant, gone.length + index, this.volume.blockSize / blockSize);
    });
    const taken = claims.takenLater();
    const units = gone.map((remnant, owner) => () => this.#deleted(remnant, remnants, taken.get(owner), blockSize));
    for (const { cnid, place, folder } of remnants.namesOnly())
      if (!index.isLive(cnid) && !before?.folder(cnid)) units.push(() => this.#nameOnly(cnid, place, folder, remnants));
    return units;
  }

  /** A file or folder under the name of the record that says most, and a file, where it is not known which one was the last, under its other names too. */
  #deleted(remnant: Remnant, remnants: Remnants, taken: RangeSet | undefined, blockSize: number): FileRecord[] {
    const [first] = this.#named(remnant, remnants, taken, blockSize);
    if (!first) return [];
    if (remnant.entry.kind === "folder" || this.volume.index.isLive(remnant.cnid)) return [first];
    const others = remnant.others.flatMap((place, number) =>
      this.#named({ ...remnant, place }, remnants, taken, blockSize).map((record) => ({
        ...record,
        reference: `${record.reference}, other name ${number + 1}`,
        notes: [...record.notes, `The file was renamed or moved: another record of it calls it “${first.path}”.`],
      })),
    );
    return [first, ...others];
  }

  #named({ cnid, entry, place, tail, at }: Remnant, remnants: Remnants, taken: RangeSet | undefined, blockSize: number): FileRecord[] {
    const { index, files } = this.volume;
    const reference = `remnant of a catalog record at byte ${at}, number ${cnid}`;
    const name = place ? shownName(place.rawName) : tail ? `?${tail}` : `file-${cnid}`;
    const parent = place?.parent ?? 0;
    const lost = place ? [] : [tail ? "The beginning of its name is gone." : "Its name is gone; its number stands in its place."];
    const describe = (): FileRecord => {
      if (entry.kind === "folder") return folderRecord(entry, { reference, system: false, state: "deleted" });
      const evidence = (layout: Layout) => this.volume.evidence(layout, taken, blockSize);
      if (isFileLink(entry)) return this.#deletedLink(entry, reference, remnants, evidence, blockSize);
      const file = files.describe(
        entry,
        place?.rawName ?? new Uint8Array(),
        reference,
        { state: "deleted", system: false, links: 1 },
        evidence,
        blockSize,
      );
      const earlier = index.liveFacts(cnid)?.made === entry.facts.createDate;
      return earlier ? { ...file, notes: [...file.notes, "An earlier content of a file that is still there."] } : file;
    };
    // Nodes are written anew so often that what was written over a file may have left no record, though its blocks are free.
    const isUnproven = entry.kind === "file" && !isFileLink(entry);
    return underPaths(index, { parent, rawName: place?.rawName ?? new Uint8Array() }, name, remnants, describe)
      .slice(0, 1)
      .map((record) => ({
        ...(isUnproven ? unproven(record) : record),
        ...(place ? {} : { incompleteName: true }),
        system: isPrivate(parent, index) || isOwn(parent, name, remnants),
        notes: [...record.notes, ...lost],
      }));
  }

  /** One of several names of a file: the others may still lead to it. */
  #deletedLink(
    entry: FileEntry,
    reference: string,
    remnants: Remnants,
    evidence: (layout: Layout) => ByteEvidence,
    blockSize: number,
  ): FileRecord {
    const { index, files } = this.volume;
    const target = index.linked(entry.facts.special);
    const gone = target ? null : remnants.linked(entry.facts.special);
    if (gone) {
      const standing = { state: "deleted", system: false, links: 2 } as const;
      const file = files.describe(gone, new Uint8Array(), reference, standing, evidence, blockSize);
      return { ...unproven(file), notes: [...file.notes, "One of several names of a file."] };
    }
    if (!target) {
      const file = files.describe(entry, new Uint8Array(), reference, { state: "deleted", system: false, links: 1 });
      return {
        ...file,
        content: absent("record-damaged", "It was one of several names of a file whose own record is not there any more."),
      };
    }
    const shared = (layout: Layout): ByteEvidence => ({ usedByOthers: 0, takenLater: 0, shared: layout.size, lost: lostOf(layout).lost });
    const file = files.describe(
      target,
      new Uint8Array(),
      reference,
      { state: "deleted", system: false, links: index.namesOf(entry.facts.special) + 1 },
      shared,
    );
    return { ...file, notes: [...file.notes, "One of several names of a file; its content lives on under another one."] };
  }

  #nameOnly(cnid: number, place: NamedPlace, folder: boolean, remnants: Remnants): FileRecord[] {
    const { index } = this.volume;
    const why = "Only its name and folder are left, in a thread record: where its content stood is not known.";
    return underPaths(index, place, shownName(place.rawName), remnants, () => ({
      reference: `remnant of a thread record, number ${cnid}`,
      state: "deleted",
      type: folder ? "folder" : "file",
      path: "",
      name: "",
      rawName: place.rawName,
      size: 0,
      created: null,
      modified: null,
      changed: null,
      content: folder ? NO_CONTENT : absent("record-damaged", why),
      system: isPrivate(place.parent, index),
      streams: [],
      links: 1,
      notes: folder ? [why] : [],
    })).slice(0, 1);
  }
}

/** Whether a remnant records something that the catalog does not have: a file that is gone, or an earlier content of one. */
function isGone({ cnid, entry }: Remnant, index: CatalogIndex): boolean {
  if (!index.isLive(cnid)) return true;
  // Where the number belongs to something else now, this one is of an earlier file system.
  const made = index.folderMade(cnid);
  if (entry.kind === "folder" || made !== null) return made !== null && made !== entry.facts.createDate;
  const facts = index.liveFacts(cnid);
  if (facts && facts.made !== entry.facts.createDate) return true;
  const { cursor, at } = entry.stored;
  if (index.isCurrent(cursor, at, at + FILE_RECORD.size, 0)) return false;
  const now = index.find(cnid);
  if (!now) return false;
  if (now.entry.facts.createDate !== entry.facts.createDate) return true;
  if (entry.data.size === 0 || isFileLink(entry)) return false;
  const present = RangeSet.from(now.entry.data.extents.map(({ start, count }) => ({ start, end: start + count })));
  return entry.data.extents.every(({ start, count }) => present.overlap(start, start + count) === 0);
}

const identity = ({ cnid, entry }: Remnant) => `${cnid} ${entry.facts.createDate}`;

/** Whether a remnant is of the file system's own: its journal, or where it kept the content of linked files. */
const isOwn = (parent: number, name: string, remnants: Remnants) =>
  (parent === CNID.root && (JOURNAL_FILES.includes(name) || name === PRIVATE_NAME)) || (parent !== 0 && parent === remnants.privateFiles());

/** Whether a folder is the one in which the content of linked files stands. */
const isPrivate = (folder: number, index: CatalogIndex) => index.isFolder(folder) && folder === index.privateFiles;
