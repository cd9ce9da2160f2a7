import { type ByteSource, readBytes } from "../bytes/byte-source";
import { crc32c } from "../bytes/crc32c";
import { Cursor } from "../bytes/cursor";
import { guidText } from "../bytes/guid";
import type { Range } from "../bytes/range-set";

/** The log of a VHDX, all little-endian: [MS-VHDX] 2.3 ("Log"), 2.3.1.1 to 2.3.1.4. */
const UNIT = 4096;
const ENTRY = {
  magic: "loge",
  checksum: 4,
  length: 8,
  tail: 12,
  sequence: 16,
  descriptors: 24,
  logGuid: 32,
  lastFileOffset: 56,
  size: 64,
} as const;
const DESCRIPTOR = { size: 32, data: "desc", zero: "zero", trailing: 4, leading: 8, zeroLength: 8, fileOffset: 16, sequence: 24 } as const;
const SECTOR = { magic: "data", sequenceHigh: 4, data: 8, dataBytes: 4084, sequenceLow: 4092 } as const;
const MAX_LOG = 1 << 28;

interface Entry {
  /** Offset in the log. */
  readonly at: number;
  readonly length: number;
  readonly tail: number;
  readonly sequence: number;
}

/** A file with some of its stretches replaced in memory; the file itself stays as it is. */
export class PatchedSource implements ByteSource {
  readonly size: number;
  /** Replaced units of 4096 bytes, by their number; null: zeros. */
  readonly #units = new Map<number, Uint8Array | null>();
  readonly #zeros: Range[] = [];

  constructor(
    private readonly file: ByteSource,
    size: number,
  ) {
    this.size = Math.max(size, file.size);
  }

  put(at: number, bytes: Uint8Array): void {
    this.#units.set(at / UNIT, bytes);
  }

  zero(at: number, length: number): void {
    for (const number of this.#units.keys()) if (number * UNIT >= at && number * UNIT < at + length) this.#units.set(number, null);
    this.#zeros.push({ start: at, end: at + length });
  }

  read(at: number, into: Uint8Array): void {
    this.file.read(at, into);
    for (const range of this.#zeros) {
      const from = Math.max(at, range.start);
      const to = Math.min(at + into.length, range.end);
      if (from < to) into.fill(0, from - at, to - at);
    }
    for (let unit = Math.floor(at / UNIT); unit * UNIT < at + into.length; unit += 1) {
      const bytes = this.#units.get(unit);
      if (bytes === undefined) continue;
      const from = Math.max(at, unit * UNIT);
      const to = Math.min(at + into.length, (unit + 1) * UNIT);
      if (bytes) into.set(bytes.subarray(from - unit * UNIT, to - unit * UNIT), from - at);
      else into.fill(0, from - at, to - at);
    }
  }

  unreadable(at: number, length: number): Range[] {
    return this.file.unreadable(at, length);
  }
}

/** The log's bytes, read around its end: it is a ring. */
function readRing(log: Uint8Array, at: number, length: number): Uint8Array {
  const out = new Uint8Array(length);
  for (let done = 0; done < length; ) {
    const from = (at + done) % log.length;
    const count = Math.min(length - done, log.length - from);
    out.set(log.subarray(from, from + count), done);
    done += count;
  }
  return out;
}

function entryAt(log: Uint8Array, at: number, logGuid: string): Entry | null {
  const head = new Cursor(readRing(log, at, ENTRY.size));
  if (String.fromCharCode(...head.slice(0, 4)) !== ENTRY.magic) return null;
  const length = head.u32(ENTRY.length);
  if (length < UNIT || length % UNIT !== 0 || length > log.length || guidText(head.slice(ENTRY.logGuid, 16)) !== logGuid) return null;
  const bytes = readRing(log, at, length);
  const stored = new Cursor(bytes).u32(ENTRY.checksum);
  bytes.fill(0, ENTRY.checksum, ENTRY.checksum + 4);
  if (crc32c(bytes) !== stored) return null;
  const tail = head.u32(ENTRY.tail);
  if (tail % UNIT !== 0 || tail >= log.length) return null;
  return { at, length, tail, sequence: head.u64(ENTRY.sequence) };
}

/**
 * Replays a log into memory ([MS-VHDX] 2.3.2, "Log Replay"): of all runs of entries that follow one another, the one that
 * ends with the highest number is the active one; it begins at the tail its last entry names.
 * @returns the file as it would be after the replay, and how many entries that took; null when there is nothing to replay
 */
export function replayLog(
  file: ByteSource,
  logAt: number,
  logLength: number,
  logGuid: string,
): { file: ByteSource; entries: number } | null {
  if (logLength < UNIT || logLength > MAX_LOG || logAt + logLength > file.size) return null;
  const log = readBytes(file, logAt, logLength - (logLength % UNIT));
  const entries = new Map<number, Entry>();
  for (let at = 0; at < log.length; at += UNIT) {
    const entry = entryAt(log, at, logGuid);
    if (entry) entries.set(at, entry);
  }
  let best: Entry[] = [];
  for (const first of entries.values()) {
    const run = [first];
    for (let last = first; run.length <= entries.size; ) {
      const next = entries.get((last.at + last.length) % log.length);
      if (!next || next.sequence !== last.sequence + 1) break;
      run.push(next);
      last = next;
    }
    const head = run.at(-1) as Entry;
    const begin = run.findIndex((entry) => entry.at === head.tail);
    if (begin >= 0 && head.sequence > (best.at(-1)?.sequence ?? -1)) best = run.slice(begin);
  }
  const head = best.at(-1);
  if (!head) return null;
  const patched = new PatchedSource(file, new Cursor(readRing(log, head.at, ENTRY.size)).u64(ENTRY.lastFileOffset));
  for (const entry of best) applyEntry(readRing(log, entry.at, entry.length), entry.sequence, patched);
  return { file: patched, entries: best.length };
}

function applyEntry(bytes: Uint8Array, sequence: number, into: PatchedSource): void {
  const cursor = new Cursor(bytes);
  const count = cursor.u32(ENTRY.descriptors);
  let dataAt = Math.ceil((ENTRY.size + count * DESCRIPTOR.size) / UNIT) * UNIT;
  for (let i = 0; i < count; i += 1) {
    const at = ENTRY.size + i * DESCRIPTOR.size;
    if (at + DESCRIPTOR.size > bytes.length || cursor.u64(at + DESCRIPTOR.sequence) !== sequence) return;
    const kind = String.fromCharCode(...cursor.slice(at, 4));
    const fileOffset = cursor.u64(at + DESCRIPTOR.fileOffset);
    if (fileOffset % UNIT !== 0) return;
    if (kind === DESCRIPTOR.zero) {
      into.zero(fileOffset, cursor.u64(at + DESCRIPTOR.zeroLength));
      continue;
    }
    if (kind !== DESCRIPTOR.data || dataAt + UNIT > bytes.length) return;
    const sector = cursor.slice(dataAt, UNIT);
    dataAt += UNIT;
    const view = new Cursor(sector);
    const written = view.u32(SECTOR.sequenceHigh) * 4_294_967_296 + view.u32(SECTOR.sequenceLow);
    if (String.fromCharCode(...sector.subarray(0, 4)) !== SECTOR.magic || written !== sequence) return;
    const plain = new Uint8Array(UNIT);
    plain.set(cursor.slice(at + DESCRIPTOR.leading, 8), 0);
    plain.set(sector.subarray(SECTOR.data, SECTOR.data + SECTOR.dataBytes), 8);
    plain.set(cursor.slice(at + DESCRIPTOR.trailing, 4), UNIT - 4);
    into.put(fileOffset, plain);
  }
}
