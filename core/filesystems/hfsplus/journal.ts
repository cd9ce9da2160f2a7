import { type ByteSource, readBytes } from "../../bytes/byte-source";
import { Cursor } from "../../bytes/cursor";
import { PATCH } from "../../bytes/patched-source";
import { BLOCK_LIST, JOURNAL_FLAG, JOURNAL_HEADER, JOURNAL_INFO } from "./layout";

/** A larger journal is damage. Bytes. */
const MOST_BYTES = 2 ** 31;
const MOST_TRANSACTIONS = 100_000;

export interface Journal {
  /** Where it stands in the volume, its header included: bytes. */
  readonly at: number;
  readonly size: number;
  /** What the transactions that wait would write: from a sector's number to the byte offset of its newer bytes, both in the volume. */
  readonly patches: ReadonlyMap<number, number>;
  readonly transactions: number;
  readonly notes: readonly string[];
}

/**
 * Reads a volume's journal (Technical Note 1150, "Journal"), and works out what its waiting transactions would write. They are taken up
 * to the first one that does not hold together.
 * @param infoAt where its info block stands: bytes of the volume
 */
export function readJournal(volume: ByteSource, infoAt: number): Journal | null {
  if (infoAt + JOURNAL_INFO.size > volume.size) return null;
  const info = JOURNAL_INFO.read(new Cursor(readBytes(volume, infoAt, JOURNAL_INFO.size)), 0);
  if ((info.flags & JOURNAL_FLAG.inVolume) === 0) return null;
  const { offset: at, size } = info;
  if (size < 2 * JOURNAL_HEADER.smallest || size > MOST_BYTES || at + size > volume.size) return null;
  const bytes = readBytes(volume, at, JOURNAL_HEADER.smallest);
  const none = (note?: string): Journal => ({ at, size, patches: new Map(), transactions: 0, notes: note ? [note] : [] });
  if ((info.flags & JOURNAL_FLAG.needsInit) !== 0) return none();
  const order = byteOrder(bytes);
  if (!order) return none("The head of the volume's journal cannot be read: changes that wait in it may be missing.");
  const word = (place: number) => order.u32(bytes, place);
  const header = { start: order.u64(bytes, 8), end: order.u64(bytes, 16), size: order.u64(bytes, 24), listSize: word(32), unit: word(40) };
  if (checksum(bytes.subarray(0, JOURNAL_HEADER.bytes), JOURNAL_HEADER.checksumAt) !== word(JOURNAL_HEADER.checksumAt))
    return none("The head of the volume's journal is damaged: changes that wait in it may be missing.");
  const { start, end, unit } = header;
  const sane =
    unit >= PATCH && unit % PATCH === 0 && header.size <= size && [start, end].every((place) => place >= unit && place <= header.size);
  if (!sane || header.listSize < BLOCK_LIST.bytes + BLOCK_LIST.infoSize || header.listSize > 1 << 20)
    return none("The head of the volume's journal contradicts itself: changes that wait in it may be missing.");
  return follow(volume, at, header, order);
}

interface Header {
  readonly start: number;
  readonly end: number;
  readonly size: number;
  readonly listSize: number;
  readonly unit: number;
}

function follow(volume: ByteSource, at: number, { start, end, size, listSize, unit }: Header, order: ByteOrder): Journal {
  const patches = new Map<number, number>();
  const notes: string[] = [];
  let transactions = 0;
  /** What the lists of a transaction say so far: it counts when all of them are sound. */
  let open: [number, number][] = [];
  /** Later systems mark the first list of a transaction; earlier ones say in each list whether another one follows. */
  let marked: boolean | null = null;
  const commit = () => {
    for (const [sector, source] of open) if ((sector + 1) * PATCH <= volume.size) patches.set(sector, source);
    if (open.length > 0) transactions += 1;
    open = [];
  };
  /** A place behind the journal's end is one at its beginning, behind its header. */
  const wrapped = (place: number) => (place < size ? place : place - size + unit);
  /** The sectors that a list writes, each with the place of its bytes; null: they are not what the list says. */
  const takeList = (list: Uint8Array, count: number, dataAt: number): [number, number][] | null => {
    const used = order.u32(list, 4);
    const summed = (order.u32(list, BLOCK_LIST.flagsAt) & BLOCK_LIST.checksummedBlocks) !== 0;
    const own: [number, number][] = [];
    let from = dataAt;
    let total = listSize;
    for (let index = 1; index < count; index += 1) {
      const infoAt = BLOCK_LIST.bytes + index * BLOCK_LIST.infoSize;
      const block = order.u64(list, infoAt);
      const length = order.u32(list, infoAt + 8);
      total += length;
      if (length % PATCH !== 0 || total > used) return null;
      // A block that was freed again is not written.
      const written = block < 2 ** 48;
      if (written && summed && checksum(readRing(volume, at, from, length, size, unit)) !== order.u32(list, infoAt + BLOCK_LIST.nextAt))
        return null;
      for (let inside = 0; inside < length; inside += PATCH) {
        if (written) own.push([(block * unit + inside) / PATCH, at + from]);
        from = wrapped(from + PATCH);
      }
    }
    return own;
  };
  let place = start === size ? unit : start;
  const last = end === size ? unit : end;
  for (let left = MOST_TRANSACTIONS, bytesLeft = size; place !== last && left > 0 && bytesLeft > 0; left -= 1) {
    const list = readRing(volume, at, place, listSize, size, unit);
    const begins = (order.u32(list, BLOCK_LIST.flagsAt) & BLOCK_LIST.first) !== 0;
    const count = order.u16(list, 2);
    const used = order.u32(list, 4);
    const sound =
      checksum(list.subarray(0, BLOCK_LIST.checksummed), BLOCK_LIST.checksumAt) === order.u32(list, BLOCK_LIST.checksumAt) &&
      count >= 1 &&
      BLOCK_LIST.bytes + count * BLOCK_LIST.infoSize <= listSize &&
      used >= listSize &&
      used <= bytesLeft;
    marked ??= begins;
    if (marked && begins) commit();
    const taken = sound ? takeList(list, count, wrapped(place + listSize)) : null;
    if (!taken) {
      // What was begun before and has not ended is as broken.
      open = [];
      notes.push("A change that waits in the volume's journal does not hold together: it and those after it were not taken.");
      break;
    }
    open.push(...taken);
    if (!marked && order.u32(list, BLOCK_LIST.bytes + BLOCK_LIST.nextAt) === 0) commit();
    bytesLeft -= used;
    place = wrapped(place + used);
  }
  if (marked) commit();
  if (transactions > 0)
    notes.unshift(
      `${transactions} ${transactions === 1 ? "change waits" : "changes wait"} in the volume's journal; the files are shown as they are with ${transactions === 1 ? "it" : "them"}. Nothing is written.`,
    );
  return { at, size, patches, transactions, notes };
}

function readRing(volume: ByteSource, at: number, place: number, length: number, size: number, unit: number): Uint8Array {
  const first = Math.min(length, size - place);
  const bytes = new Uint8Array(length);
  volume.read(at + place, bytes.subarray(0, first));
  if (first < length) volume.read(at + unit, bytes.subarray(first));
  return bytes;
}

interface ByteOrder {
  u16(bytes: Uint8Array, at: number): number;
  u32(bytes: Uint8Array, at: number): number;
  u64(bytes: Uint8Array, at: number): number;
}
const LITTLE: ByteOrder = {
  u16: (bytes, at) => new Cursor(bytes).u16(at),
  u32: (bytes, at) => new Cursor(bytes).u32(at),
  u64: (bytes, at) => new Cursor(bytes).u64(at),
};
const BIG: ByteOrder = {
  u16: (bytes, at) => new Cursor(bytes).u16be(at),
  u32: (bytes, at) => new Cursor(bytes).u32be(at),
  u64: (bytes, at) => new Cursor(bytes).u64be(at),
};

const byteOrder = (bytes: Uint8Array): ByteOrder | undefined =>
  [LITTLE, BIG].find((order) => order.u32(bytes, 0) === JOURNAL_HEADER.magic && order.u32(bytes, 4) === JOURNAL_HEADER.order);

/** The journal's own sum over bytes, in which the four of the sum itself count as zero. */
function checksum(bytes: Uint8Array, sumAt = -4): number {
  let sum = 0;
  bytes.forEach((byte, index) => {
    const value = index >= sumAt && index < sumAt + 4 ? 0 : byte;
    sum = ((sum << 8) ^ (sum + value)) >>> 0;
  });
  return ~sum >>> 0;
}
