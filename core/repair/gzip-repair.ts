import { BlockReader } from "../bytes/block-reader";
import { MemorySource } from "../bytes/byte-source";
import { InflateError, inflate, inflateFrom, TooMuch } from "../bytes/inflate";
import { blockCandidates, UNKNOWN } from "../bytes/inflate-behind";
import type { Segment } from "../bytes/layout";
import { tarEntry } from "../formats/archives";
import { gzipHeader } from "../formats/compressed";
import { made, type Repaired } from "./repaired";

const MOST_PLAIN = 1 << 28;
/** Packed bytes behind a damage in which the next block is looked for: several times as many as writers put into one. */
const MOST_SEARCHED = 1 << 20;
/** Blocks that must unpack one after the other before a place is believed, where the data do not end before. */
const ENOUGH_BLOCKS = 2;
/** Plain bytes that a damage may have cost. */
const MOST_LOST = 1 << 26;
/** Plain bytes that are kept of what is behind a damage: they are held twice while they are compared. */
const MOST_BEHIND = 1 << 26;
const RECORD = 512;

/** What can be unpacked of each member: up to where it is damaged, and from the next block on that can be known behind it. */
export function repairGzip(reader: BlockReader): Repaired | null {
  const unpacking = new Unpacking(reader);
  unpacking.run();
  if (unpacking.segments.length === 0) return null;
  return {
    segments: unpacking.segments,
    done: unpacking.done.length > 0 ? unpacking.done : ["Unpacked; only its checksum was wrong."],
    extension: "unpacked",
  };
}

class Unpacking {
  readonly segments: Segment[] = [];
  readonly done: string[] = [];
  #left = MOST_PLAIN;
  /** Plain bytes of the present member that were put. */
  #written = 0;

  constructor(private readonly reader: BlockReader) {}

  run(): void {
    const { reader } = this;
    for (let at = reader.find("\x1f\x8b\x08", 0); at >= 0 && this.#left > 0; ) {
      const header = gzipHeader(reader, at);
      const end = header ? this.#member(header.dataAt) : at + 1;
      if (end === null) return;
      at = reader.find("\x1f\x8b\x08", Math.max(at + 1, end));
    }
  }

  /** @returns the byte from which further members are looked for; null: enough was unpacked */
  #member(dataAt: number): number | null {
    this.#written = 0;
    try {
      return inflate(this.reader, dataAt, this.reader.size, (bytes) => this.#put(bytes.slice()), this.#left).end;
    } catch (error) {
      if (error instanceof TooMuch) return null;
      if (!(error instanceof InflateError)) throw error;
      if (error.plain > 0) this.done.push(`Unpacked up to the damage: ${error.plain} bytes, as far as byte ${error.at} of the archive.`);
      return this.#behind(error);
    }
  }

  /** Goes on behind a damage, and behind those that follow. */
  #behind(damage: InflateError): number | null {
    let from = damage.blockAt + 1;
    let looked = damage.at;
    for (;;) {
      const found = this.#nextBlocks(from);
      if (!found) return Math.max(looked, damage.at);
      const { plain, unknown, bit, end, broken } = found;
      // A member that was followed to its end says how long it was (RFC 1952, 2.3.1: ISIZE), and so where these bytes stand.
      const placed = !broken && this.#moveTo((this.reader.u32(end - 4) - plain.length) >>> 0);
      if (placed) this.#mendHeaders(plain, found.isUnknown);
      this.#put(plain);
      this.done.push(
        `Unpacked again from byte ${Math.floor(bit / 8)} of the archive on: ${plain.length} bytes${placed ? ", in their right place" : ""}; ${unknown} of them cannot be known, because they repeat what was lost: “?” stands for them.`,
      );
      if (!broken) return end;
      looked = end;
      from = broken.blockAt + 1;
    }
  }

  /** The first place from a bit on at which blocks begin that make sense. */
  #nextBlocks(from: number) {
    for (const bit of blockCandidates(this.reader, from, MOST_SEARCHED)) {
      const found = this.#tryAt(bit);
      if (found) return found;
    }
    return null;
  }

  /** Unpacks from a block on, twice: where what stood before is referred to, the two differ. */
  #tryAt(bit: number) {
    const { reader } = this;
    const attempt = (filler: number) => {
      const pieces: Uint8Array[] = [];
      const take = (piece: Uint8Array) => pieces.push(piece.slice());
      try {
        const { end } = inflateFrom(reader, bit, reader.size, take, filler, Math.min(this.#left, MOST_BEHIND));
        // Behind the data of a member stand its checksum and length (RFC 1952, 2.3.1).
        return end + 8 <= reader.size ? { plain: Buffer.concat(pieces), end: end + 8, broken: null } : null;
      } catch (error) {
        if (error instanceof TooMuch) return null;
        if (!(error instanceof InflateError)) throw error;
        return error.blocks >= ENOUGH_BLOCKS ? { plain: Buffer.concat(pieces), end: error.at, broken: error } : null;
      }
    };
    const one = attempt(0);
    const other = one && attempt(0xff);
    if (!one || !other || one.plain.length === 0) return null;
    const isUnknown = one.plain.map((byte, i) => (byte === other.plain[i] ? 0 : 1));
    let unknown = 0;
    for (let i = 0; i < isUnknown.length; i += 1) {
      if (!isUnknown[i]) continue;
      one.plain[i] = UNKNOWN;
      unknown += 1;
    }
    return { ...one, unknown, isUnknown, bit };
  }

  /** Makes what was put of the member as long as that: what a damage made too much is taken away, what it cost is filled up. */
  #moveTo(length: number): boolean {
    if (length > this.#written + MOST_LOST || length > this.#written + this.#left) return false;
    while (this.#written > length) {
      const last = this.segments.pop();
      if (last?.kind !== "held") return false;
      const kept = last.bytes.subarray(0, Math.max(0, last.length - (this.#written - length)));
      this.#written -= last.length;
      this.#left += last.length;
      this.#put(kept);
    }
    this.#put(new Uint8Array(length - this.#written).fill(UNKNOWN));
    return true;
  }

  /**
   * Headers of an archive within are much alike, and mostly repeat what stands in the one before: what cannot be known of one is taken
   * from the last that is known, if its checksum then is right.
   */
  #mendHeaders(plain: Uint8Array, isUnknown: Uint8Array): void {
    const template = this.#lastHeader();
    if (!template) return;
    const first = (RECORD - (this.#written % RECORD)) % RECORD;
    for (let at = first; at + RECORD <= plain.length; at += RECORD) {
      const unknown = isUnknown.subarray(at, at + RECORD);
      const header = plain.subarray(at, at + RECORD).map((byte, i) => (unknown[i] ? (template[i] as number) : byte));
      // One that comes out the same is only the one before again.
      if (unknown.includes(1) && !header.every((byte, i) => byte === template[i]) && holdsTarHeader(header, 0)) plain.set(header, at);
    }
  }

  /** The last header of an archive's file in what was put of the member. */
  #lastHeader(): Uint8Array | null {
    const plain = Buffer.concat(this.segments.flatMap((each) => (each.kind === "held" ? [each.bytes] : []))).subarray(-this.#written);
    if (!holdsTarHeader(plain, 0)) return null;
    for (let at = plain.length - (plain.length % RECORD); at >= 0; at -= RECORD)
      if (holdsTarHeader(plain, at)) return plain.subarray(at, at + RECORD);
    return null;
  }

  #put(bytes: Uint8Array): void {
    if (bytes.length === 0) return;
    this.segments.push(made(bytes));
    this.#written += bytes.length;
    this.#left -= bytes.length;
  }
}

/** Whether a file of an archive begins at a place (POSIX.1, pax: "ustar" at 257, and the right checksum). */
function holdsTarHeader(bytes: Uint8Array, at: number): boolean {
  if (bytes[at + 257] !== 0x75 || bytes[at + 258] !== 0x73 || at + RECORD > bytes.length) return false;
  return tarEntry(new BlockReader(new MemorySource(bytes.subarray(at, at + RECORD))), 0) !== null;
}
