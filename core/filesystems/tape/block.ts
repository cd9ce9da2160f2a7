import type { ByteSource } from "../../bytes/byte-source";
import { Cursor } from "../../bytes/cursor";
import { decodeUtf16le } from "../../bytes/text";
import {
  type BlockType,
  COMMON,
  DATES,
  DIRB,
  dateOf,
  FILE,
  idOf,
  SSET,
  SSET_DATE,
  STREAM,
  STRINGS,
  TAPE,
  TYPES,
  VOLB,
  wordChecksum,
} from "./layout";

/** Bytes of a block that are read at first: nearly all end before; with their names all do within 64 KiB, as the offsets have 16 bits. */
const FIRST_READ = 1024;

const TYPE_OF = new Map<number, BlockType>(TYPES.map((type) => [idOf(type), type]));
/** Single-byte names are taken for Windows-1252: nothing in the format says which table they are of. */
const western = new TextDecoder("windows-1252");

/** A descriptor block. Bytes of the medium where it stands; `bytes` are those up to its first stream. */
export interface Block {
  readonly at: number;
  readonly type: BlockType;
  readonly bytes: Uint8Array;
  readonly common: ReturnType<typeof COMMON.read>;
  /** Where its first stream stands; its own end where it has none. */
  readonly firstStream: number;
}

/** Reads medium bytes with a small cache, so that going from block to block costs one read for each. */
export class MediumReader {
  readonly size: number;
  #kept = new Uint8Array(0);
  #at = -1;

  constructor(readonly source: ByteSource) {
    this.size = source.size;
  }

  /** Up to `length` bytes at a place; fewer at the end. A view that is good until the next call. */
  view(at: number, length: number): Uint8Array {
    const there = Math.max(0, Math.min(length, this.size - at));
    if (there === 0 || at < 0) return this.#kept.subarray(0, 0);
    if (at < this.#at || at + there > this.#at + this.#kept.length || this.#at < 0) {
      const wanted = Math.min(Math.max(there, 4096), this.size - at);
      this.#kept = new Uint8Array(wanted);
      this.source.read(at, this.#kept);
      this.#at = at;
    }
    return this.#kept.subarray(at - this.#at, at - this.#at + there);
  }
}

/** Reads the descriptor block at a place; null: none with a right checksum begins there. */
export function readBlock(reader: MediumReader, at: number): Block | null {
  const head = reader.view(at, COMMON.size);
  if (head.length < COMMON.size) return null;
  const cursor = new Cursor(head);
  const type = TYPE_OF.get(cursor.u32(0));
  if (type === undefined || wordChecksum(head, 0, COMMON.size - 2) !== cursor.u16(COMMON.size - 2)) return null;
  return blockAt(reader, at, type);
}

const smallestOf: Partial<Record<BlockType, number>> = {
  TAPE: TAPE.size,
  SSET: SSET.size,
  VOLB: VOLB.size,
  DIRB: DIRB.size,
  FILE: FILE.size,
};

function blockAt(reader: MediumReader, at: number, type: BlockType): Block | null {
  const first = reader.view(at, FIRST_READ);
  const common = COMMON.read(new Cursor(first), 0);
  const length = common.offsetToFirstEvent;
  // Filemarks have no streams: their first event is nowhere.
  if (type !== "SFMB" && length < Math.max(COMMON.size, smallestOf[type] ?? 0)) return null;
  const bytes = (length <= first.length ? first.subarray(0, Math.max(length, COMMON.size)) : reader.view(at, length)).slice();
  if (bytes.length < Math.max(length, smallestOf[type] ?? COMMON.size)) return null;
  return { at, type, bytes, common, firstStream: at + length };
}

/**
 * Reads a block whose checksum is wrong, where one must stand: its type by at least three of its letters, and a first stream with a right
 * header where it says. What it says besides may be wrong. @returns null when it does not look like one
 */
export function readDamagedBlock(reader: MediumReader, at: number): Block | null {
  const head = reader.view(at, COMMON.size);
  if (head.length < COMMON.size) return null;
  const type = TYPES.find((each) => [...each].filter((letter, i) => head[i] === letter.charCodeAt(0)).length >= 3);
  if (type === undefined || type === "SFMB") return null;
  const block = blockAt(reader, at, type);
  return block && readStreamHeader(reader, block.firstStream) ? block : null;
}

/** A text that an address in a block leads to; null: it leads out of the block, or the text cannot be one. */
export function textIn({ bytes, common }: Block, size: number, at: number): { readonly text: string; readonly raw: Uint8Array } | null {
  if (size === 0 || at + size > bytes.length) return null;
  const raw = bytes.slice(at, at + size);
  return { text: decodeText(raw, common.stringType), raw };
}

export function decodeText(raw: Uint8Array, stringType: number): string {
  return stringType === STRINGS.unicode ? decodeUtf16le(raw) : western.decode(raw);
}

/** Dates of a folder or file: local times as if they were UTC. */
export const datesOf = ({ bytes }: Block) => ({ modified: dateOf(bytes, DATES.modified), created: dateOf(bytes, DATES.created) });

export const setDateOf = ({ bytes }: Block): number | null => dateOf(bytes, SSET_DATE);

type StreamHeader = ReturnType<typeof STREAM.read>;

export interface Stream extends StreamHeader {
  /** Where its header stands, and its data. Bytes of the medium. */
  readonly at: number;
  readonly dataAt: number;
}

/** Reads the header of a stream; null: none with a right checksum stands there. */
export function readStreamHeader(reader: MediumReader, at: number): Stream | null {
  const head = reader.view(at, STREAM.size);
  if (head.length < STREAM.size) return null;
  const values = STREAM.read(new Cursor(head), 0);
  if (values.checksum !== wordChecksum(head, 0, STREAM.size - 2) || !isId(head)) return null;
  return { ...values, at, dataAt: at + STREAM.size };
}

/** Ids are four capital letters or digits. */
function isId(bytes: Uint8Array): boolean {
  for (let i = 0; i < 4; i += 1) {
    const byte = bytes[i] as number;
    if (!((byte >= 0x41 && byte <= 0x5a) || (byte >= 0x30 && byte <= 0x39))) return false;
  }
  return true;
}
