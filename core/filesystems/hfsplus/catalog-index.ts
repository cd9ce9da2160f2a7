import type { Cursor } from "../../bytes/cursor";
import { type BTree, LeafIndex, READ_AHEAD, type TreeNode } from "./b-tree";
import { CatalogNumbers, type NumberFacts } from "./catalog-numbers";
import {
  type CatalogEntry,
  type CatalogKey,
  type FileEntry,
  firstBlockOf,
  keyLength,
  readEntry,
  readKey,
  shownName,
} from "./catalog-record";
import {
  CATALOG_KEY,
  CNID,
  FILE_LINK,
  FILE_RECORD,
  FOLDER_LINK,
  FOLDER_RECORD,
  IDENTITY,
  MODE,
  PRIVATE_FILES,
  PRIVATE_FOLDERS,
  RECORD_TYPE,
} from "./layout";
import type { NamedPlace, Remnants } from "./remnants";

export const UNKNOWN_PARENT = "/?";
/** Folders above one another; more is a circle. */
const MOST_DEPTH = 512;
/** Paths that one folder has by links to folders, at most. */
export const MOST_PATHS = 256;

/** A record of a leaf. */
export interface CatalogRecord {
  readonly key: CatalogKey;
  readonly entry: CatalogEntry;
  /** Where its data begin in the node. */
  readonly at: number;
}

/** The sound records of a leaf; those that only say where a number is are half of them, and may be left out. */
export function* recordsOf(node: TreeNode, threads = true): Generator<CatalogRecord, void, void> {
  const { cursor, starts } = node;
  for (let index = 0; index + 1 < starts.length; index += 1) {
    const [at, to] = [starts[index] as number, starts[index + 1] as number];
    // Threads are known by the empty name in their key.
    if (!threads && keyLength(cursor, at, to) === CATALOG_KEY.name) continue;
    const key = readKey(cursor, at, to);
    if (!key) continue;
    const entry = readEntry(cursor, at + key.length, to);
    if (entry) yield { key, entry, at: at + key.length };
  }
}

export const isFileLink = ({ facts }: FileEntry) => facts.fdType === FILE_LINK.type && facts.fdCreator === FILE_LINK.creator;
export const isFolderLink = ({ facts }: FileEntry) => facts.fdType === FOLDER_LINK.type && facts.fdCreator === FOLDER_LINK.creator;
export const isSymbolicLink = ({ facts }: FileEntry) => (facts.fileMode & MODE.mask) === MODE.link;

/** What is asked of the catalog's tree. */
type CatalogTree = Pick<BTree, "leafRecords" | "nodes" | "nodeSize" | "leaves" | "node">;

/** A catalog that has nothing: of a file system of which only remnants are left. */
export const NO_TREE: CatalogTree = { leafRecords: 0, nodes: 0, nodeSize: 0, *leaves() {}, node: () => null };

/** A file that may hold the content of linked ones: its folder, its number, and where its record stands. */
interface Candidate {
  readonly parent: number;
  readonly number: number;
  readonly node: number;
  readonly at: number;
}

/** What must be known of the whole catalog before any of its records can be described: folders, links, numbers in use. */
export class CatalogIndex {
  readonly #folders = new Map<number, { parent: number; name: string; createDate: number }>();
  readonly #live: CatalogNumbers;
  /** Where the content of linked files stands: by number, the node and the place of its record's data there. */
  readonly #linked = new Map<number, { node: number; at: number }>();
  readonly #linkNames = new Map<number, number>();
  readonly #folderLinks = new Map<number, { parent: number; name: string }[]>();
  readonly #paths = new Map<number, readonly string[]>();
  #leaves: LeafIndex | undefined;
  /** Numbers of the folders in which linked files and linked folders really stand. */
  readonly privateFiles: number | null;
  readonly privateFolders: number | null;
  label: string | null = null;

  constructor(private readonly tree: CatalogTree) {
    // Each number has two records: its own and its thread. What a damaged head says is bounded by what its nodes can hold.
    this.#live = new CatalogNumbers(Math.min(tree.leafRecords / 2, (tree.nodes * tree.nodeSize) / FOLDER_RECORD.size));
    const candidates: Candidate[] = [];
    for (const node of tree.leaves(1, tree.nodes, new Uint8Array(READ_AHEAD)))
      for (let index = 0; index + 1 < node.starts.length; index += 1) this.#note(node, index, candidates);
    const inRoot = (name: string) => {
      for (const [cnid, folder] of this.#folders) if (folder.parent === CNID.root && folder.name === shownName(utf16be(name))) return cnid;
      return null;
    };
    this.privateFiles = inRoot(PRIVATE_FILES.folder);
    this.privateFolders = inRoot(PRIVATE_FOLDERS.folder);
    for (const { parent, number, node, at } of candidates) if (parent === this.privateFiles) this.#linked.set(number, { node, at });
  }

  /** Notes what matters of a record. Field by field: records come by the million, and most of them only say a number. */
  #note({ cursor, starts, number }: TreeNode, index: number, candidates: Candidate[]): void {
    const [from, to] = [starts[index] as number, starts[index + 1] as number];
    const length = keyLength(cursor, from, to);
    const at = from + length;
    if (length === 0 || at + 2 > to) return;
    const parent = cursor.u32be(from + CATALOG_KEY.parentID);
    const nameBytes = length - CATALOG_KEY.name;
    const name = () => shownName(cursor.slice(from + CATALOG_KEY.name, nameBytes));
    const type = cursor.u16be(at);
    if (type === RECORD_TYPE.folder && at + FOLDER_RECORD.size <= to) {
      const id = cursor.u32be(at + IDENTITY.id);
      const made = cursor.u32be(at + IDENTITY.created);
      this.#live.add(id, { made, firstBlock: 0 });
      if (id === CNID.root) this.label = name() || null;
      else this.#folders.set(id, { parent, name: name(), createDate: made });
    } else if (type === RECORD_TYPE.file && at + FILE_RECORD.size <= to) {
      this.#live.add(cursor.u32be(at + IDENTITY.id), { made: cursor.u32be(at + IDENTITY.created), firstBlock: firstBlockOf(cursor, at) });
      const kind = cursor.u32be(at + IDENTITY.type);
      const creator = cursor.u32be(at + IDENTITY.creator);
      const special = cursor.u32be(at + IDENTITY.special);
      if (kind === FILE_LINK.type && creator === FILE_LINK.creator) this.#linkNames.set(special, (this.#linkNames.get(special) ?? 0) + 1);
      else if (kind === FOLDER_LINK.type && creator === FOLDER_LINK.creator) {
        const links = this.#folderLinks.get(special) ?? [];
        if (links.length < MOST_PATHS) links.push({ parent, name: name() });
        this.#folderLinks.set(special, links);
      } else if (nameBytes > 0 && nameBytes < 40 && cursor.u16be(from + CATALOG_KEY.name) === PRIVATE_FILES.prefix.charCodeAt(0)) {
        const found = /^iNode(\d+)$/.exec(name())?.[1];
        if (found) candidates.push({ parent, number: Number(found), node: number, at });
      }
    }
  }

  isLive(cnid: number): boolean {
    return this.#live.has(cnid);
  }

  /** What is known at once of a number in use; null: nothing. */
  liveFacts(cnid: number): NumberFacts | null {
    return this.#live.factsOf(cnid);
  }

  /**
   * Whether a record whose data begin at `at` and end before `to` plainly says what the catalog says of its number: of the same file or folder,
   * whose content, if any, begins at the same block.
   * @param parent the number in its key
   */
  isCurrent(cursor: Cursor, at: number, to: number, parent: number): boolean {
    if (at + 2 > to) return false;
    const type = cursor.u16be(at);
    // Within one file system a number is not given twice.
    if (type === RECORD_TYPE.folderThread || type === RECORD_TYPE.fileThread) return this.#live.factsOf(parent) !== null;
    const size = type === RECORD_TYPE.file ? FILE_RECORD.size : type === RECORD_TYPE.folder ? FOLDER_RECORD.size : null;
    if (size === null || at + size > to) return false;
    const now = this.#live.factsOf(cursor.u32be(at + IDENTITY.id));
    if (!now || now.made !== cursor.u32be(at + IDENTITY.created)) return false;
    const first = type === RECORD_TYPE.folder ? 0 : firstBlockOf(cursor, at);
    return first === 0 || first === now.firstBlock;
  }

  /** The record that holds the content of a linked file; null: it is not there. */
  linked(number: number): FileEntry | null {
    const place = this.#linked.get(number);
    const node = place && this.tree.node(place.node);
    const entry = node ? readEntry(node.cursor, place.at, node.free.from) : null;
    return entry?.kind === "file" ? entry : null;
  }

  /** Names that link to a file. */
  namesOf(number: number): number {
    return this.#linkNames.get(number) ?? 0;
  }

  /** Links that lead to a folder. */
  linksTo(folder: number): number {
    return this.#folderLinks.get(folder)?.length ?? 0;
  }

  isFolder(cnid: number): boolean {
    return cnid === CNID.root || this.#folders.has(cnid);
  }

  /** Paths of a folder, "" for the root: several where links lead to it or to one above it. */
  pathsOf(cnid: number, remnants: Remnants | null = null): readonly string[] {
    const known = this.#paths.get(cnid);
    if (known) return known;
    const paths = this.#findPaths(cnid, remnants, new Set());
    // What leads through remnants may become known better: it is not kept.
    if (this.isFolder(cnid)) this.#paths.set(cnid, paths);
    return paths;
  }

  #findPaths(cnid: number, remnants: Remnants | null, above: Set<number>): readonly string[] {
    if (cnid === CNID.root) return [""];
    const known = this.#paths.get(cnid);
    if (known) return known;
    if (above.has(cnid) || above.size > MOST_DEPTH) return [];
    const folder = this.#folders.get(cnid) ?? remnantPlace(remnants, cnid);
    if (!folder) return [UNKNOWN_PARENT];
    const links = folder.parent === this.privateFolders ? this.#folderLinks.get(cnid) : undefined;
    above.add(cnid);
    const paths: string[] = [];
    for (const { parent, name } of links ?? [folder])
      for (const path of this.#findPaths(parent, remnants, above)) if (paths.length < MOST_PATHS) paths.push(`${path}/${name}`);
    above.delete(cnid);
    return paths;
  }

  /** When a folder was made, in Mac time; null: the number is none of a folder below the root. */
  folderMade(cnid: number): number | null {
    return this.#folders.get(cnid)?.createDate ?? null;
  }

  /** The live record of a number, by its thread record. */
  find(cnid: number): { place: NamedPlace; entry: FileEntry } | null {
    this.#leaves ??= new LeafIndex(this.tree, CATALOG_KEY.parentID);
    for (const node of this.#leaves.leavesOf(cnid))
      for (const { key, entry } of recordsOf(node))
        if (key.parent === cnid && entry.kind === "thread" && !entry.folder)
          return this.#at(cnid, { parent: entry.parent, rawName: entry.rawName });
    return null;
  }

  #at(cnid: number, place: NamedPlace): { place: NamedPlace; entry: FileEntry } | null {
    for (const node of this.#leaves?.leavesOf(place.parent) ?? [])
      for (const { key, entry } of recordsOf(node))
        if (key.parent === place.parent && entry.kind === "file" && entry.facts.fileID === cnid) return { place, entry };
    return null;
  }
}

function remnantPlace(remnants: Remnants | null, cnid: number): { parent: number; name: string } | null {
  const place = remnants?.folder(cnid);
  return place ? { parent: place.parent, name: shownName(place.rawName) } : null;
}

function utf16be(text: string): Uint8Array {
  const bytes = new Uint8Array(text.length * 2);
  for (let index = 0; index < text.length; index += 1) {
    bytes[index * 2] = text.charCodeAt(index) >>> 8;
    bytes[index * 2 + 1] = text.charCodeAt(index) & 0xff;
  }
  return bytes;
}
