import { sha256 } from "@noble/hashes/sha2";
import { type ByteSource, readBytes } from "../../bytes/byte-source";
import { Cursor } from "../../bytes/cursor";
import { NODE, NODE_FLAG, OBJECT, OBJECT_TYPE } from "./layout";

/** Objects kept after they were read and found sound. */
const MOST_KEPT = 4096;
const MODULUS = 0xffff_ffff;
/** Sums of so many words stay exact in a number. */
const WORDS_AT_ONCE = 1024;

/** A sound object: its bytes, and what it says of itself. */
export interface ApfsObject {
  readonly paddr: number;
  readonly cursor: Cursor;
  readonly oid: number;
  readonly xid: number;
  readonly type: number;
  readonly subtype: number;
}

/** Whether the checksum of an object is right (`o_cksum`, Fletcher's with 64 bits over 32-bit words). */
export function isSound(bytes: Uint8Array): boolean {
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength);
  let [first, second] = [0, 0];
  const end = bytes.length - (bytes.length % 4);
  for (let at = 8; at < end; ) {
    for (const until = Math.min(end, at + 4 * WORDS_AT_ONCE); at < until; at += 4) {
      first += view.getUint32(at, true);
      second += first;
    }
    first %= MODULUS;
    second %= MODULUS;
  }
  const low = MODULUS - ((first + second) % MODULUS);
  const high = MODULUS - ((first + low) % MODULUS);
  return view.getUint32(0, true) === low && view.getUint32(4, true) === high;
}

/** Reads objects by their block; those whose checksum is wrong are passed by. */
export class Objects {
  readonly #kept = new Map<number, ApfsObject | null>();

  constructor(
    /** The container. */
    readonly volume: ByteSource,
    readonly blockSize: number,
    readonly blockCount: number,
  ) {}

  /** Room for a block. */
  room(): Uint8Array {
    return new Uint8Array(this.blockSize);
  }

  /** null: it lies outside the container, or its checksum is wrong. */
  read(paddr: number): ApfsObject | null {
    const known = this.#kept.get(paddr);
    if (known !== undefined) return known;
    const object = this.#checked(paddr, (place) => readBytes(this.volume, place, this.blockSize));
    if (this.#kept.size >= MOST_KEPT) {
      const oldest = this.#kept.keys().next().value;
      if (oldest !== undefined) this.#kept.delete(oldest);
    }
    this.#kept.set(paddr, object);
    return object;
  }

  /** The same for what is gone through once. @param room a block's bytes, which the object holds until they are used again */
  readOnce(paddr: number, room: Uint8Array): ApfsObject | null {
    return this.#checked(paddr, () => this.#into(room, paddr));
  }

  #checked(paddr: number, read: (place: number) => Uint8Array): ApfsObject | null {
    if (!(paddr > 0 && paddr < this.blockCount)) return null;
    const bytes = read(paddr * this.blockSize);
    return isSound(bytes) ? toObject(bytes, paddr) : null;
  }

  /** An object that was found sound before. @param room as for {@link readOnce} */
  readAgain(paddr: number, room: Uint8Array): ApfsObject | null {
    return paddr > 0 && paddr < this.blockCount ? toObject(this.#into(room, paddr), paddr) : null;
  }

  #into(room: Uint8Array, paddr: number): Uint8Array {
    this.volume.read(paddr * this.blockSize, room);
    return room;
  }

  /**
   * Reads a node of the tree of files of a sealed volume, which has no header of its own, and so no checksum: the node above carries its hash.
   * One that has a header (a broken seal) is checked by that.
   * @param hash SHA-256 of the block; null: it is not known, or was checked before
   * @param room as for {@link readOnce}; one of its own where the node is kept
   */
  readBare(paddr: number, hash: Uint8Array | null, room: Uint8Array): ApfsObject | null {
    if (!(paddr > 0 && paddr < this.blockCount)) return null;
    const bytes = this.#into(room, paddr);
    const cursor = new Cursor(bytes);
    if ((NODE.read(cursor, 0).flags & NODE_FLAG.noHeader) === 0) return isSound(bytes) ? toObject(bytes, paddr) : null;
    if (hash && sha256(bytes).some((byte, index) => byte !== hash[index])) return null;
    return { paddr, cursor, oid: paddr, xid: 0, type: OBJECT_TYPE.treeNode, subtype: OBJECT_TYPE.fileTree };
  }
}

export function toObject(bytes: Uint8Array, paddr: number): ApfsObject {
  const cursor = new Cursor(bytes);
  const { oid, xid, type, subtype } = OBJECT.read(cursor, 0);
  return { paddr, cursor, oid, xid, type: type & OBJECT_TYPE.mask, subtype };
}
