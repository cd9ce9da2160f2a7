import type { AllocationMap } from "../allocation-map";
import type { Finding } from "../file-record";
import { blockWords, Tally } from "../tally";
import { MODE, PRIVATE_FOLDER, RECORD_TYPE, ROOT_FOLDER } from "./layout";
import { type Extent, numberOf, parseEntry, parseExtent, parseInode, shownName, typeOf } from "./records";
import type { UnreadNode, VolumeState } from "./state";

/** Files, entries and extents that are held against one another; of a larger volume only its tree and its map are. */
const MOST_COMPARED = 8_000_000;
/** Claims that overlap at one place and are distinguished: damaged ones may claim everything at once, and more add nothing. */
const MOST_OPEN = 64;
/** Blocks of files that are looked up in the map, in container sizes: clones share blocks, damaged extents claim any number. */
const MOST_LOOKED_UP = 4;

/** Numbers that are collected, eight bytes each. */
class Numbers {
  #kept = new Float64Array(1024);
  length = 0;

  push(number: number): void {
    if (this.length === this.#kept.length) {
      const grown = new Float64Array(this.length * 2);
      grown.set(this.#kept);
      this.#kept = grown;
    }
    this.#kept[this.length] = number;
    this.length += 1;
  }

  at(index: number): number {
    return this.#kept[index] as number;
  }

  sorted(): Float64Array {
    return this.#kept.subarray(0, this.length).sort();
  }
}

/** What does not add up in a volume: its tree of files against itself, against the map of used blocks and against the numbers in its superblock. */
export function apfsFindings(
  state: VolumeState,
  blocks: { readonly size: number; readonly count: number; readonly map: AllocationMap | null },
): Finding[] {
  const [unread, free, outside, counts] = [new Tally(), new Tally(), new Tally(), new Tally()];
  const [leadNowhere, nameless, crossed] = [new Tally(), new Tally(), new Tally()];
  const [inodes, named, starts, ends, streams] = [new Numbers(), new Numbers(), new Numbers(), new Numbers(), new Numbers()];
  const found = { files: 0, folders: 0, links: 0 };
  const names = new Map<number, string>();
  let complete = true;
  let left = MOST_LOOKED_UP * blocks.count;

  const extentOf = (stream: number, { block, length }: Extent) => {
    if (block === 0 || length === 0) return;
    const count = Math.ceil(length / blocks.size);
    if (block + count > blocks.count) {
      outside.add(`number ${stream}`);
      return;
    }
    left -= count;
    if (blocks.map && left >= 0) {
      const used = blocks.map.usedWithin(block, count).reduce((sum, { start, end }) => sum + end - start, 0);
      if (used < count) free.add(blockWords(block, block + count), count - used);
    }
    if (starts.length >= MOST_COMPARED) complete = false;
    else {
      starts.push(block);
      ends.push(block + count);
      streams.push(stream);
    }
  };

  const lost = (node: UnreadNode) =>
    unread.add(node.paddr === null ? `number ${node.oid}, of which no map names a block` : `block ${node.paddr}`);
  for (const node of state.leavesBeside(new Set(), lost))
    for (let index = 0; index < node.keys.length; index += 1) {
      const number = numberOf(node, index);
      const type = typeOf(node, index);
      if (type === RECORD_TYPE.inode) {
        const inode = parseInode(node, index);
        if (!inode || number === ROOT_FOLDER || number === PRIVATE_FOLDER) continue;
        const kind = inode.facts.mode & MODE.mask;
        if (kind === MODE.folder) found.folders += 1;
        else if (kind === MODE.link) found.links += 1;
        else if (kind === MODE.file) found.files += 1;
        if (inodes.length >= MOST_COMPARED) complete = false;
        // What was deleted while it was open has no name any more, on purpose.
        else if (inode.facts.parentId !== PRIVATE_FOLDER) inodes.push(number);
      } else if (type === RECORD_TYPE.entry) {
        const entry = parseEntry(node, index, state.hashedNames);
        if (!entry || entry.fileId === ROOT_FOLDER || entry.fileId === PRIVATE_FOLDER) continue;
        if (named.length >= MOST_COMPARED) complete = false;
        else {
          named.push(entry.fileId);
          if (names.size < 1000) names.set(entry.fileId, shownName(entry.name));
        }
      } else if (type === RECORD_TYPE.extent) {
        const extent = parseExtent(node, index);
        if (extent) extentOf(number, extent);
      }
    }
  for (const { stream, extent } of state.allSealedExtents(lost)) extentOf(stream, extent);

  if (complete) {
    compareSorted(inodes.sorted(), named.sorted(), {
      first: (number) => nameless.add(`number ${number}`),
      second: (number) => leadNowhere.add(names.get(number) ?? `number ${number}`),
    });
    for (const { start, end, of } of sharedBlocks(starts, ends, streams))
      if (state.referencesTo(start) < of) crossed.add(blockWords(start, end), end - start);
  }
  if (complete && unread.count === 0) {
    const { files, folders, links } = state.volume.facts;
    for (const [what, said, have] of [
      ["files", files, found.files],
      ["folders", folders, found.folders],
      ["links", links, found.links],
    ] as const)
      if (said !== have) counts.add(`${said} ${what} in the superblock, ${have} in the tree`, 1);
  }
  return [
    { what: "Nodes of the tree of files that are damaged or cannot be found: what they say of files is missing from the list.", ...unread },
    {
      what: "Blocks that two files claim, of which the volume's list knows fewer owners: at least one of the two holds the other's bytes there.",
      ...crossed,
    },
    { what: "Blocks that belong to a file while the container's map calls them free: the next write may take them.", ...free },
    { what: "Stretches of files that lie outside the container.", ...outside },
    { what: "Entries of folders that lead to a file that is not in the tree.", ...leadNowhere },
    { what: "Files and folders that no folder has an entry for.", ...nameless },
    { what: "Numbers in the volume's superblock that differ from what is in its tree.", ...counts },
  ].filter((finding) => finding.count > 0);
}

/** Gives the numbers that stand in one of two sorted lists alone, each once. */
function compareSorted(
  first: Float64Array,
  second: Float64Array,
  alone: { readonly first: (number: number) => void; readonly second: (number: number) => void },
): void {
  let [a, b] = [0, 0];
  while (a < first.length || b < second.length) {
    const [left, right] = [first[a] ?? Number.POSITIVE_INFINITY, second[b] ?? Number.POSITIVE_INFINITY];
    if (left < right) alone.first(left);
    else if (right < left) alone.second(right);
    const met = Math.min(left, right);
    while (first[a] === met) a += 1;
    while (second[b] === met) b += 1;
  }
}

/** Stretches of blocks that several data streams claim, and how many of them at least. */
function* sharedBlocks(
  starts: Numbers,
  ends: Numbers,
  streams: Numbers,
): Generator<{ start: number; end: number; of: number }, void, void> {
  const order = Uint32Array.from({ length: starts.length }, (_, index) => index).sort((a, b) => starts.at(a) - starts.at(b));
  /** Claims that reach beyond where the walk is. */
  let open: number[] = [];
  for (const claim of order) {
    const [start, end] = [starts.at(claim), ends.at(claim)];
    open = open.filter((other) => ends.at(other) > start);
    const others = new Set(open.map((other) => streams.at(other)));
    others.add(streams.at(claim));
    if (others.size > 1) yield { start, end: Math.min(end, ...open.map((other) => ends.at(other))), of: others.size };
    if (open.length < MOST_OPEN) open.push(claim);
  }
}
