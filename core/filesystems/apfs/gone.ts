import type { Range } from "../../bytes/range-set";
import type { FileRecord } from "../file-record";
import { type BlockClaim, type EarlierName, type EarlierRecords, isFolderNumber, takenLater, type Version } from "./earlier";
import type { Ownership } from "./evidence";
import type { Group } from "./groups";
import { MODE, PRIVATE_FOLDER } from "./layout";
import { type Extent, shownName } from "./records";

export const UNKNOWN_PARENT = "/?";
/** Earlier contents listed of one file that is still there. */
const MOST_CONTENTS = 16;

/** A file, a folder or a content that the present tree does not have. */
export interface GoneFile {
  readonly version: Version;
  readonly extents: readonly Extent[];
  /** null: nothing says it. */
  readonly name: { readonly parentId: number; readonly name: Uint8Array } | null;
  /** Who may know the folders above it. */
  readonly others: readonly EarlierRecords[];
  /** Blocks that belonged to another file later. */
  readonly taken: readonly Range[];
  readonly note: string | null;
  readonly ownership: Ownership;
}

interface Present {
  readonly blockSize: number;
  readonly others: readonly EarlierRecords[];
  /** What the present tree says of a number; null: nothing. */
  live(id: number): Group | null;
  liveExtents(group: Group): readonly Extent[];
  readonly ownership: Ownership;
}

const EARLIER_CONTENT = "An earlier content of a file that is still there.";
const EARLIER_NAME = "An earlier name or place of a file that is still there.";

/**
 * Works out what earlier records know and the present tree does not: files and folders that are gone, contents that were replaced, names
 * that were given up.
 * @param known what is described already
 */
export function goneFiles(earlier: EarlierRecords, present: Present, known: readonly GoneFile[]): GoneFile[] {
  const seen = new Set(known.map(identity));
  const found: Omit<GoneFile, "taken">[] = [];
  const others = [earlier, ...present.others];
  const add = (file: Omit<GoneFile, "taken" | "others" | "ownership">) => {
    const gone = { ...file, others, ownership: present.ownership };
    const key = identity(gone);
    if (seen.has(key)) return;
    seen.add(key);
    found.push(gone);
  };
  const described = new Set(known.filter(({ note }) => note === null).map(({ version }) => version.id));
  for (const id of earlier.ids()) {
    if (isFolderNumber(id)) continue;
    const versions = earlier.versions(id);
    const extentsOf = (version: Version) => {
      const { privateId } = version.inode.facts;
      const own = privateId === id ? version.extents : [];
      return present.others.reduce(
        (extents, other) => (covers(extents, version) ? extents : other.extentsOf(privateId, version.xid, extents)),
        covers(own, version) ? own : earlier.extentsOf(privateId, version.xid, own),
      );
    };
    const live = present.live(id);
    if (!live || live.inode.facts.parentId === PRIVATE_FOLDER) {
      // What an earlier state described is not described again by a remnant of it.
      if (described.has(id)) continue;
      const [best] = [...versions].sort((a, b) => standing(b, extentsOf(b)) - standing(a, extentsOf(a)) || b.xid - a.xid);
      if (!best) continue;
      const [name = null] = others.flatMap((each) => each.names(id).slice(0, 1));
      add({ version: best, extents: extentsOf(best), name, note: null });
      continue;
    }
    if ((live.inode.facts.mode & MODE.mask) === MODE.folder) continue;
    const names =
      live.siblings.length > 0 ? live.siblings : live.inode.name ? [{ parentId: live.inode.facts.parentId, name: live.inode.name }] : [];
    const now = present.liveExtents(live);
    const [current] = names;
    let contents = 0;
    for (const version of versions) {
      const extents = extentsOf(version);
      if (
        contents >= MOST_CONTENTS ||
        (version.inode.size ?? 0) === 0 ||
        !covers(extents, version) ||
        sameContent(version, extents, live, now, present.blockSize)
      )
        continue;
      contents += 1;
      add({ version, extents, name: current ?? null, note: EARLIER_CONTENT });
    }
    const [latest] = versions;
    for (const name of earlier.names(id))
      if (latest && !names.some((each) => isSameName(each, name)))
        add({ version: { ...latest, ...live, xid: latest.xid, paddr: latest.paddr }, extents: now, name, note: EARLIER_NAME });
  }
  return withClaims(found, present.blockSize);
}

/** Whether extents hold all of a file's bytes, as far as any do. */
function covers(extents: readonly Extent[], { inode }: Version): boolean {
  const size = inode.size ?? 0;
  const held = extents.reduce((sum, { logical, length }) => sum + Math.max(0, Math.min(size, logical + length) - logical), 0);
  return held >= size;
}

/** A version that has a place in a folder, content, and all of it, says most. */
const standing = (version: Version, extents: readonly Extent[]): number =>
  (covers(extents, version) ? 4 : 0) +
  ((version.inode.size ?? 0) > 0 || version.attributes.length > 0 ? 2 : 0) +
  (version.inode.facts.parentId !== PRIVATE_FOLDER ? 1 : 0);

function sameContent(version: Version, extents: readonly Extent[], live: Group, now: readonly Extent[], blockSize: number): boolean {
  if (version.inode.size !== live.inode.size) return false;
  const at = (list: readonly Extent[], logical: number) => {
    const extent = list.find((each) => each.logical <= logical && logical < each.logical + each.length);
    return extent && extent.block !== 0 ? { extent, inside: logical - extent.logical } : null;
  };
  // Blocks are compared where extents begin on either side: between those, both go on in step.
  return [...extents, ...now].every(({ logical }) => {
    const [a, b] = [at(extents, logical), at(now, logical)];
    if (!a || !b) return !a && !b;
    return a.extent.block * blockSize + a.inside === b.extent.block * blockSize + b.inside;
  });
}

const isSameName = (a: Pick<EarlierName, "parentId" | "name">, b: Pick<EarlierName, "parentId" | "name">) =>
  a.parentId === b.parentId && shownName(a.name) === shownName(b.name);

const identity = ({ version, name, note }: Pick<GoneFile, "version" | "name" | "note">): string => {
  const { id, inode } = version;
  return [
    id,
    note ?? "",
    note === EARLIER_NAME && name
      ? `${name.parentId} ${shownName(name.name)}`
      : `${inode.size} ${inode.facts.modifyHigh} ${inode.facts.modifyLow}`,
  ].join(" ");
};

function withClaims(files: readonly Omit<GoneFile, "taken">[], blockSize: number): GoneFile[] {
  const claims: BlockClaim[] = [];
  const owners: number[] = [];
  files.forEach(({ version, extents }, index) => {
    for (const { block, length } of extents) {
      if (block === 0) continue;
      claims.push({ start: block, end: block + Math.ceil(length / blockSize), stream: version.inode.facts.privateId, xid: version.xid });
      owners.push(index);
    }
  });
  const taken: Range[][] = files.map(() => []);
  for (const [claim, ranges] of takenLater(claims).entries()) (taken[owners[claim] as number] as Range[]).push(...ranges);
  return files.map((file, index) => ({ ...file, taken: taken[index] as Range[] }));
}

/** The record of a file that is gone under its name, or its number. @param pathOf the path of a folder, "" for the root */
export function describeGone(record: FileRecord, { version, name, note }: GoneFile, pathOf: (id: number) => string): FileRecord {
  const deleted: FileRecord = {
    ...record,
    state: "deleted",
    reference: `${record.reference}, as of transaction ${version.xid} in block ${version.paddr}`,
    notes: note ? [...record.notes, note] : record.notes,
  };
  if (name) return namedRecord(deleted, pathOf(name.parentId), name.name, 1);
  const own = `file-${version.id}`;
  return {
    ...deleted,
    path: `${UNKNOWN_PARENT}/${own}`,
    name: own,
    incompleteName: true,
    notes: [...deleted.notes, "Its name is gone; its number stands in its place."],
  };
}

/** A record under one of its names. */
export function namedRecord(record: FileRecord, parent: string, rawName: Uint8Array, links: number): FileRecord {
  const name = shownName(rawName);
  const notes = parent.startsWith(UNKNOWN_PARENT)
    ? [...record.notes, "A folder above it is not known any more: the full path is not known."]
    : record.notes;
  return { ...record, path: `${parent}/${name}`, name, rawName: rawName.slice(), links, notes };
}
