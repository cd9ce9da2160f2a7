import { type ByteSource, readBytes } from "../../../bytes/byte-source";
import { Cursor } from "../../../bytes/cursor";
import { guidText } from "../../../bytes/guid";
import type { Layout } from "../../../bytes/layout";
import { decodeUtf16le } from "../../../bytes/text";
import { filetimeToMs } from "../../../bytes/times";
import {
  BLOCK,
  CATALOG_ENTRY,
  catalogEntry,
  ENTRY,
  HEADER_AT,
  hasIdentifier,
  RANGE,
  RECORD,
  range,
  readBlockHeader,
  STORE_INFORMATION,
  volumeHeader,
} from "./layout";

/** A volume has at most 512 snapshots of this kind; a catalog that lists more is damaged. */
const MOST_STORES = 512;
const MOST_CATALOG_BLOCKS = 64;
const MOST_RANGES = 100_000;
/** Blocks of a deleted store that are looked at for where its lists begin: 1 GiB. */
const MOST_LOOKED_AT = 65_536;
const HEADER = 128;
/** Bytes of a machine's name. */
const MOST_NAME = 512;

/** What keeps the blocks of one snapshot. Offsets count from the beginning of the volume. */
export interface SnapshotStore {
  /** Identifier, in capitals. */
  readonly id: string;
  /** UTC milliseconds; null: nothing says. */
  readonly created: number | null;
  /** Its first block list; null: none was found. */
  readonly blockList: number | null;
  /** The stretches of the volume its file takes. */
  readonly ranges: readonly { readonly at: number; readonly length: number }[];
  readonly machine: string | null;
  /** The catalog does not name it any more: its blocks may have been given to other files. */
  readonly deleted: boolean;
}

/** Reads a block; null: it does not lie in the volume. */
export function readBlock(volume: ByteSource, at: number): Cursor | null {
  return at > 0 && at + BLOCK <= volume.size ? new Cursor(readBytes(volume, at, BLOCK)) : null;
}

/** Whether the volume has, or had, snapshots; and where its catalog begins (null: it has none now). */
export function readSnapshotHeader(volume: ByteSource): { catalog: number | null } | null {
  if (volume.size < HEADER_AT + 512) return null;
  const head = new Cursor(readBytes(volume, HEADER_AT, 512));
  if (!hasIdentifier(head)) return null;
  const { version, type, catalog } = volumeHeader.read(head, 0);
  if (version !== 1 || type !== RECORD.header) return null;
  return { catalog: catalog > 0 ? catalog : null };
}

/** Reads the stores that the catalog names, in its order. A damaged catalog gives those that it names still, and a note. */
export function readCatalog(volume: ByteSource, first: number): { stores: SnapshotStore[]; notes: string[] } {
  const notes: string[] = [];
  const created = new Map<string, number | null>();
  const places = new Map<string, { blockList: number; header: number; ranges: number }>();
  const seen = new Set<number>();
  for (let at = first; at !== 0 && !seen.has(at) && seen.size < MOST_CATALOG_BLOCKS; ) {
    seen.add(at);
    const block = readBlock(volume, at);
    const header = block && readBlockHeader(block);
    if (!block || header?.type !== RECORD.catalog) {
      notes.push("The list of the volume's snapshots is damaged: some may be missing.");
      break;
    }
    for (let place = CATALOG_ENTRY.first; place + CATALOG_ENTRY.size <= BLOCK; place += CATALOG_ENTRY.size) {
      const entry = catalogEntry.read(block, place);
      const id = guidText(block.slice(place + ENTRY.guid, 16));
      if (created.size + places.size >= 2 * MOST_STORES) break;
      if (entry.type === CATALOG_ENTRY.snapshot)
        created.set(id, filetimeToMs(block.u32(place + ENTRY.created), block.u32(place + ENTRY.created + 4)));
      else if (entry.type === CATALOG_ENTRY.store) places.set(id, entry);
    }
    at = header.next;
  }
  const stores = [...new Set([...created.keys(), ...places.keys()])].map((id): SnapshotStore => {
    const place = places.get(id);
    return {
      id,
      created: created.get(id) ?? timeOf(id),
      blockList: place ? place.blockList : null,
      ranges: place ? readRanges(volume, place.ranges) : [],
      machine: place ? readMachine(volume, place.header) : null,
      deleted: false,
    };
  });
  return { stores, notes };
}

/**
 * A store of which only its file is known, or only where its blocks stand: its structures are looked for in that.
 * @param stretches of the volume, in the order of the file
 * @returns null: no block list is there any more
 */
export function findStore(
  volume: ByteSource,
  id: string,
  stretches: SnapshotStore["ranges"],
  created: number | null,
): SnapshotStore | null {
  const lists: { at: number; relative: number; next: number }[] = [];
  let machine: string | null = null;
  // The lists begin near the beginning of the file.
  for (const { at, header } of blockHeaders(volume, stretches, MOST_LOOKED_AT)) {
    if (header.type === RECORD.blockList) lists.push({ at, ...header });
    if (header.type === RECORD.storeHeader) machine = readMachine(volume, at);
  }
  const followed = new Set(lists.map(({ next }) => next));
  const first = lists.filter(({ at }) => !followed.has(at)).sort((a, b) => a.relative - b.relative)[0];
  return first ? { id, created: created ?? timeOf(id), blockList: first.at, ranges: stretches, machine, deleted: true } : null;
}

/** The headers of blocks in stretches of the volume, those that say they stand where they do. @param most blocks that are looked at */
export function* blockHeaders(volume: ByteSource, stretches: SnapshotStore["ranges"], most: number) {
  let looked = 0;
  for (const { at: start, length } of stretches)
    for (let at = start; at + BLOCK <= start + length && at + BLOCK <= volume.size; at += BLOCK) {
      looked += 1;
      if (looked > most) return;
      // Nearly all blocks are kept data: their first bytes say so.
      const header = readBlockHeader(new Cursor(readBytes(volume, at, HEADER)));
      if (header?.own === at) yield { at, header };
    }
}

/** The stretches of the volume that a file stands in, beginning with whole blocks. @param start disk byte offset of the volume */
export function stretchesOf(layout: Layout, start: number): SnapshotStore["ranges"] {
  return layout.segments.flatMap((segment) => (segment.kind === "disk" ? [{ at: segment.at - start, length: segment.length }] : []));
}

function readRanges(volume: ByteSource, first: number): SnapshotStore["ranges"] {
  const found: { at: number; length: number }[] = [];
  const seen = new Set<number>();
  for (let at = first; at !== 0 && !seen.has(at) && found.length < MOST_RANGES; ) {
    seen.add(at);
    const block = readBlock(volume, at);
    const header = block && readBlockHeader(block);
    if (!block || header?.type !== RECORD.ranges) break;
    for (let place = RANGE.first; place + RANGE.size <= BLOCK; place += RANGE.size) {
      const { at: from, length } = range.read(block, place);
      if (length > 0 && from + length <= volume.size) found.push({ at: from, length });
    }
    at = header.next;
  }
  return found;
}

function readMachine(volume: ByteSource, at: number): string | null {
  const block = readBlock(volume, at);
  if (!block || readBlockHeader(block)?.type !== RECORD.storeHeader) return null;
  const length = block.u16(STORE_INFORMATION.first + STORE_INFORMATION.strings);
  if (length === 0 || length > MOST_NAME) return null;
  return decodeUtf16le(block.slice(STORE_INFORMATION.first + STORE_INFORMATION.strings + 2, length)).replaceAll("\0", "") || null;
}

/** The time in an identifier that was made from one (RFC 9562, 5.1): UTC milliseconds; null: it was not. */
function timeOf(id: string): number | null {
  const [low = "", middle = "", high = ""] = id.split("-");
  if (!high.startsWith("1")) return null;
  // Steps of 100 ns since 1582-10-15.
  const steps = BigInt(`0x${high.slice(1)}${middle}${low}`);
  const ms = Number(steps / 10_000n) - 12_219_292_800_000;
  return ms > 0 && ms < Date.UTC(2200, 0, 1) ? ms : null;
}
