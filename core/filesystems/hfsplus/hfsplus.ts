import { type ByteSource, CachedSource, readBytes, WindowSource } from "../../bytes/byte-source";
import { type Checkpoint, numberCheckpoint, readNumberCheckpoint } from "../../bytes/checkpoint";
import { Cursor } from "../../bytes/cursor";
import { type Layout, LayoutSource, type Segment } from "../../bytes/layout";
import { PatchedSource } from "../../bytes/patched-source";
import { AllocationMap } from "../allocation-map";
import { blockEvidence } from "../block-evidence";
import { absent, type FileRecord, type FileSystem, FileSystemError, type Finding, NO_CONTENT, type RecordBatch } from "../file-record";
import type { Leftovers } from "../leftovers";
import { RESOURCE_STREAM } from "../mac-compression";
import { macTimeToMs } from "../mac-times";
import { Attributes } from "./attributes";
import { BTree, parseNode, READ_AHEAD } from "./b-tree";
import { CatalogIndex, type CatalogRecord, isFileLink, isFolderLink, recordsOf, UNKNOWN_PARENT } from "./catalog-index";
import { CatalogNodes } from "./catalog-nodes";
import { type Extent, type FileEntry, type FolderEntry, type Fork, shownName } from "./catalog-record";
import { hfsPlusFindings, type OwnedFork } from "./consistency";
import { type Blocks, FileDescriber, folderRecord, forkLayout, underPaths } from "./files";
import { GoneFiles } from "./gone-files";
import { type Journal, readJournal } from "./journal";
import { CNID, EXTENT_KEY, FORK_TYPE, HEADER_AT, JOURNAL_FILES, NODE, NODE_KIND, PRIVATE_FILES, VOLUME_ATTRIBUTE } from "./layout";
import { OverflowExtents } from "./overflow";
import { Remnants } from "./remnants";
import { readEitherHeader, unwrapped, type VolumeHeader } from "./volume-header";

/**
 * Opens an HFS Plus or HFSX volume, as it is with the changes that wait in its journal.
 * @param disk the whole disk: all offsets in records and layouts count from its first byte
 * @throws FileSystemError when the header and its copy, or the catalog, cannot be followed
 */
export function openHfsPlus(disk: ByteSource, start: number, length: number): FileSystem {
  const { volume: stretch, at } = unwrapped(new WindowSource(disk, start, length));
  const before = readEitherHeader(stretch);
  const journal = journalOf(stretch, before.header);
  const volume = journal && journal.patches.size > 0 ? new PatchedSource(stretch, journal.patches) : stretch;
  const { header, notes } = journal && journal.patches.size > 0 ? readEitherHeader(volume) : before;
  return new HfsPlusVolume(disk, start + at, volume, header, journal, [...notes, ...(journal?.notes ?? [])]);
}

function journalOf(volume: ByteSource, { facts }: VolumeHeader): Journal | null {
  if ((facts.attributes & VOLUME_ATTRIBUTE.journaled) === 0 || facts.journalInfoBlock === 0) return null;
  return readJournal(volume, facts.journalInfoBlock * facts.blockSize);
}

class HfsPlusVolume implements FileSystem {
  readonly clusterSize: number;
  readonly label: string | null;
  readonly notes: readonly string[];
  readonly allocation: AllocationMap | null;
  readonly #volume: ByteSource;
  readonly #catalog: BTree;
  readonly #catalogLayout: Layout;
  readonly #overflow: OverflowExtents;
  readonly #attributes: Attributes;
  readonly #blocks: Blocks;
  readonly #files: FileDescriber;
  #index: CatalogIndex | undefined;
  /** Remnants met as the catalog was gone through. */
  #met: Remnants | undefined;
  #gone: { readonly remnants: Remnants; readonly units: readonly (() => FileRecord[])[] } | undefined;

  constructor(
    disk: ByteSource,
    /** Disk byte offset of the volume. */
    private readonly start: number,
    volume: ByteSource,
    private readonly header: VolumeHeader,
    private readonly journal: Journal | null,
    notes: readonly string[],
  ) {
    const { facts, forks } = header;
    this.clusterSize = facts.blockSize;
    this.#blocks = { start, blockSize: facts.blockSize, count: facts.totalBlocks };
    this.#volume = new CachedSource(volume, 16_384, 1024);
    const extents = BTree.open(this.#special(forks.extents, forks.extents.extents).source, "list of further extents");
    this.#overflow = OverflowExtents.of(extents, facts.totalBlocks);
    const open = (fork: Fork, cnid: number) => this.#special(fork, this.#overflow.extentsOf(cnid, FORK_TYPE.data, fork, false));
    const catalog = open(forks.catalog, CNID.catalog);
    const tree = BTree.open(catalog.source, "catalog");
    if (!tree) throw new FileSystemError("The catalog of the volume cannot be read: none of its nodes is where the header says.");
    this.#catalog = tree;
    this.#catalogLayout = catalog.layout;
    const attributes = open(forks.attributes, CNID.attributes);
    const attributeTree = forks.attributes.size > 0 ? BTree.open(attributes.source, "list of extended attributes") : null;
    this.#attributes = new Attributes(
      attributeTree,
      (at) => placeIn(attributes.layout, at),
      (fork, all) => forkLayout(this.#blocks, fork, all),
    );
    this.#files = new FileDescriber(disk, this.#blocks, this.#overflow, this.#attributes);
    const map = open(forks.allocation, CNID.allocation);
    const mapped = map.layout.size * 8 >= facts.totalBlocks && map.layout.segments.every(({ kind }) => kind === "disk");
    this.allocation = mapped ? new AllocationMap(map.source, facts.totalBlocks, true) : null;
    this.label = labelOf(tree);
    this.notes = [
      ...notes,
      ...(extents?.notes ?? []),
      ...tree.notes,
      ...(attributeTree?.notes ?? []),
      ...(mapped ? [] : ["The map of used blocks cannot be read: what deleted files still hold cannot be judged."]),
    ];
  }

  get allocationStart(): number {
    return this.start;
  }

  /** First the catalog's nodes in the order of the file, then (a unit each) what only remnants of records know. */
  *readRecords(from: Checkpoint | null, step: number): Generator<RecordBatch, void, void> {
    const index = this.#indexed();
    const { units } = this.#remnants();
    const { nodes } = this.#catalog;
    const total = nodes + units.length;
    const first = readNumberCheckpoint(from);
    let records: FileRecord[] = [];
    // A node has many records: a batch is that of a few.
    const perBatch = Math.max(1, Math.round(step / 16));
    for (let next = first; next < nodes; ) {
      const end = Math.min(nodes, next + perBatch);
      for (const node of this.#catalog.leaves(next, end))
        for (const record of recordsOf(node, false)) records.push(...this.#live(record, index, node.number));
      next = end;
      yield { records, resume: numberCheckpoint(next), done: next, total };
      records = [];
    }
    for (let next = Math.max(first, nodes); next < total; ) {
      const end = Math.min(total, next + step);
      for (; next < end; next += 1) records.push(...(units[next - nodes] as () => FileRecord[])());
      yield { records, resume: numberCheckpoint(next), done: next, total };
      records = [];
    }
  }

  leftovers(): Leftovers {
    const nodes = new CatalogNodes({
      volume: this.#volume,
      start: this.start,
      nodeSize: this.#catalog.nodeSize,
      nextCatalogID: this.header.facts.nextCatalogID,
      isFree: (at) => !(this.allocation?.isUsed(Math.floor(at / this.clusterSize)) ?? false),
      units: (remnants) => this.#goneFiles().units(remnants, this.#remnants().remnants, remnants.blockSize(this.clusterSize)),
    });
    return { volume: this.#volume, start: this.start, scans: [nodes] };
  }

  findings(): Finding[] {
    const { facts, forks } = this.header;
    let [files, folders] = [0, 0];
    const all = (fork: Fork, cnid: number, type: number) => this.#overflow.extentsOf(cnid, type, fork, false);
    const special = (name: string, cnid: number, fork: Fork): OwnedFork => ({
      name,
      blocks: fork.blocks,
      extents: all(fork, cnid, FORK_TYPE.data),
    });
    const { catalog, attributes, allocation, extents, startup } = forks;
    const tree = this.#catalog;
    const attributeForks = this.#attributes.forks();
    // Where the headers stand: the first blocks, and the last one or two.
    const head = Math.ceil((HEADER_AT + 512) / this.clusterSize);
    const tail = Math.ceil(HEADER_AT / this.clusterSize);
    const owned = function* (): Generator<OwnedFork, void, void> {
      yield {
        name: "volume headers",
        blocks: null,
        extents: [
          { start: 0, count: head },
          { start: facts.totalBlocks - tail, count: tail },
        ],
      };
      yield { name: "list of further extents", blocks: extents.blocks, extents: extents.extents };
      yield special("catalog", CNID.catalog, catalog);
      yield special("list of extended attributes", CNID.attributes, attributes);
      yield special("map of used blocks", CNID.allocation, allocation);
      yield special("start-up file", CNID.startup, startup);
      for (const node of tree.leaves())
        for (const { key, entry } of recordsOf(node)) {
          if (entry.kind === "folder") folders += key.parent === CNID.rootParent ? 0 : 1;
          if (entry.kind !== "file") continue;
          files += 1;
          const name = shownName(key.rawName);
          const { fileID } = entry.facts;
          if (entry.data.blocks > 0) yield { name, blocks: entry.data.blocks, extents: all(entry.data, fileID, FORK_TYPE.data) };
          if (entry.resource.blocks > 0)
            yield {
              name: `${name}, ${RESOURCE_STREAM}`,
              blocks: entry.resource.blocks,
              extents: all(entry.resource, fileID, FORK_TYPE.resource),
            };
        }
      for (const fork of attributeForks) yield { name: "extended attribute", blocks: null, extents: fork.extents };
    };
    return hfsPlusFindings(owned(), {
      blocks: facts.totalBlocks,
      map: this.allocation,
      header: { files: facts.fileCount, folders: facts.folderCount },
      found: () => ({ files, folders }),
    });
  }

  #indexed(): CatalogIndex {
    if (this.#index) return this.#index;
    const tree = this.#catalog;
    const index = new CatalogIndex(tree);
    const remnants = new Remnants(this.header.facts, index);
    for (const { number, bytes } of tree.inOrder(1, tree.nodes, undefined, new Uint8Array(READ_AHEAD))) {
      const node = parseNode(bytes, number);
      const at = placeIn(this.#catalogLayout, number * tree.nodeSize);
      if (tree.isLive(number) && node) remnants.take(bytes, node.free.from, node.free.to, at);
      else if (node?.kind !== NODE_KIND.index && node?.kind !== NODE_KIND.map) remnants.take(bytes, NODE.size, bytes.length, at);
    }
    if (this.journal) this.#takeJournal(this.journal, remnants);
    this.#met = remnants;
    this.#index = index;
    return index;
  }

  /** A special file: its bytes, and where they stand on the disk. */
  #special(fork: Fork, extents: readonly Extent[]): { source: ByteSource; layout: Layout } {
    const layout = forkLayout(this.#blocks, fork, extents);
    const inVolume = layout.segments.map(
      (segment): Segment => (segment.kind === "disk" ? { ...segment, at: segment.at - this.start } : segment),
    );
    // A size that leads out of the volume is damaged: nothing may be made as large as that.
    const source = new LayoutSource(this.#volume, { size: layout.size, segments: inVolume });
    return { source: new WindowSource(source, 0, Math.min(layout.size, this.#volume.size)), layout };
  }

  #live({ key, entry }: CatalogRecord, index: CatalogIndex, node: number): FileRecord[] {
    if (entry.kind === "thread" || key.parent === CNID.rootParent) return [];
    const name = shownName(key.rawName);
    const inFiles = key.parent === index.privateFiles && index.privateFiles !== null;
    const reference = `catalog node ${node}, number ${entry.kind === "file" ? entry.facts.fileID : entry.facts.folderID}`;
    const system =
      inFiles || (key.parent === index.privateFolders && index.privateFolders !== null) || isOwn(key.parent, name, index, entry);
    if (entry.kind === "folder") {
      // A linked folder is listed where its links are.
      if (key.parent === index.privateFolders && index.linksTo(entry.facts.folderID) > 0) return [];
      return underPaths(index, key, name, null, () => folderRecord(entry, { reference, system, state: "live" }));
    }
    if (isFolderLink(entry)) return this.#folderLink(key.parent, name, key.rawName, entry, index, reference);
    const number = entry.facts.special;
    const target = isFileLink(entry) ? index.linked(number) : entry;
    if (inFiles) {
      // What a file's names lead to is listed under them.
      const own = /^iNode(\d+)$/.exec(name)?.[1];
      if (own && index.namesOf(Number(own)) > 0) return [];
      if (PRIVATE_FILES.removed.test(name)) {
        const file = this.#files.describe(entry, key.rawName, reference, { state: "deleted", system: false, links: 1 });
        const note = "It was deleted while a program had it open; its content is kept until the volume is used again.";
        return [{ ...file, path: `${UNKNOWN_PARENT}/${name}`, name, notes: [...file.notes, note] }];
      }
    }
    const links = target && target !== entry ? Math.max(index.namesOf(number), 1) : 1;
    return underPaths(index, key, name, null, () =>
      target
        ? this.#files.describe(target, key.rawName, reference, { state: "live", system, links })
        : {
            ...this.#files.describe(entry, key.rawName, reference, { state: "live", system, links: 1 }),
            content: absent("record-damaged", "It is one of several names of a file whose own record is not there any more."),
          },
    );
  }

  #folderLink(parent: number, name: string, rawName: Uint8Array, entry: FileEntry, index: CatalogIndex, reference: string): FileRecord[] {
    const there = index.isFolder(entry.facts.special);
    const circle = there && index.pathsOf(entry.facts.special).length === 0;
    const notes = !there
      ? ["It leads to a folder that is not there any more."]
      : circle
        ? ["It leads back to a folder it lies in: what is below it is listed once only."]
        : [];
    return underPaths(index, { parent, rawName }, name, null, () => ({
      reference,
      state: "live",
      type: "folder",
      path: "",
      name,
      rawName,
      size: 0,
      created: macTimeToMs(entry.facts.createDate),
      modified: macTimeToMs(entry.facts.contentModDate),
      changed: macTimeToMs(entry.facts.attributeModDate),
      content: NO_CONTENT,
      system: false,
      streams: [],
      links: Math.max(1, index.linksTo(entry.facts.special)),
      notes,
    }));
  }

  #goneFiles(): GoneFiles {
    const blocks = { start: this.start, blockSize: this.clusterSize, map: this.allocation };
    return new GoneFiles({
      index: this.#indexed(),
      files: this.#files,
      overflow: this.#overflow,
      blockSize: this.clusterSize,
      evidence: (layout, taken, unit) => blockEvidence(layout, blocks, taken && { taken, unit }),
    });
  }

  /** What only remnants know: in the free space of leaves, in nodes not in use, and in the journal. */
  #remnants(): { readonly remnants: Remnants; readonly units: readonly (() => FileRecord[])[] } {
    if (this.#gone) return this.#gone;
    this.#indexed();
    const remnants = this.#met as Remnants;
    this.#gone = { remnants, units: this.#goneFiles().units(remnants, null) };
    return this.#gone;
  }

  /** Blocks of the catalog and of the list of further extents, as transactions of any age have written them. */
  #takeJournal({ at, size }: Journal, remnants: Remnants): void {
    const { nodeSize } = this.#catalog;
    const { totalBlocks } = this.header.facts;
    const step = 1 << 20;
    for (let from = 0; from < size; from += step) {
      const bytes = readBytes(this.#volume, at + from, Math.min(step + nodeSize, size - from));
      for (let inside = 0; inside < step && inside + 512 <= bytes.length; inside += 512) {
        if (bytes[inside + 8] !== NODE_KIND.leaf || bytes[inside + 9] !== 1) continue;
        const block = bytes.subarray(inside, Math.min(bytes.length, inside + nodeSize));
        remnants.take(block, NODE.size, block.length, this.start + at + from + inside);
        // The first key of a list of further extents has the length that all of its keys have.
        if (new Cursor(block).u16be(NODE.size) === EXTENT_KEY.length)
          this.#overflow.takeRemnants(block, NODE.size, block.length, totalBlocks);
      }
    }
  }
}

/** Disk byte offset of a byte of a file that is not coded; 0 where it has none. */
function placeIn(layout: Layout, at: number): number {
  let from = 0;
  for (const segment of layout.segments) {
    if (at < from + segment.length) return segment.kind === "disk" ? segment.at + at - from : 0;
    from += segment.length;
  }
  return 0;
}

/** The name of the volume is that of its root folder, whose key is the least of all. */
function labelOf(tree: BTree): string | null {
  const nodes = function* () {
    const first = tree.firstLeaf();
    if (first) yield first;
    yield* tree.leaves();
  };
  for (const node of nodes())
    for (const { key, entry } of recordsOf(node))
      if (key.parent === CNID.rootParent && entry.kind === "folder") return shownName(key.rawName) || null;
  return null;
}

const isOwn = (parent: number, name: string, index: CatalogIndex, entry: FileEntry | FolderEntry) =>
  parent === CNID.root &&
  (entry.kind === "folder"
    ? entry.facts.folderID === index.privateFiles || entry.facts.folderID === index.privateFolders
    : JOURNAL_FILES.includes(name));
