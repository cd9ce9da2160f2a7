/**
 * Binary property lists: a mark, objects one behind another, a table of their offsets, a trailer of 32 bytes. Layout: the comment at the head of
 * the published reader (`CFBinaryPList.c`, "HEADER", "OBJECT TABLE", "OFFSET TABLE", "TRAILER"; from memory).
 */

/** Stands for a value that is damaged, or is not there any more. */
export const DAMAGED = Symbol("damaged");

export interface ListRead {
  /** What it holds; where a part is damaged, `DAMAGED` stands for it. */
  readonly value: unknown;
  /** What of it could not be read, in words; null: all was. */
  readonly problem: string | null;
}

const MARK = "bplist0";
const FIRST_AT = 8;
const TRAILER = { size: 32, offsetBytes: 6, refBytes: 7, count: 8, top: 16, tableAt: 24 } as const;
/** Objects of a list, and values it gives: one object may stand in many places. */
const MOST_OBJECTS = 1_000_000;
const MOST_VALUES = 1_000_000;
const MOST_DEPTH = 512;
/** Dates count seconds from 2001 on. */
const EPOCH_2001_MS = 978_307_200_000;
/** Bytes of references that are tried where nothing says how many they have. */
const REF_BYTES = [1, 2, 4, 3] as const;
/** Objects that must agree with a table of offsets for it to be one. */
const LEAST_AGREEING = 3;

const NO_TRAILER = "Its end is gone: its values were found one behind another.";
const SOME_DAMAGED = "Some of its values are damaged.";

interface Item {
  /** Offset behind it. */
  readonly end: number;
  /** A single value; not set: it holds others. */
  readonly value?: unknown;
  readonly refs?: readonly number[];
  readonly kind: "single" | "list" | "map";
}

/** Reads a binary property list, also a damaged one. @returns null when it is none, or nothing of it is left */
export function readBinaryList(bytes: Uint8Array): ListRead | null {
  const source = Buffer.from(bytes.buffer, bytes.byteOffset, bytes.length);
  if (source.toString("latin1", 0, MARK.length) !== MARK) return null;
  const table = tableOf(source);
  const reader = table ? new Objects(source, table.offsets, table.refBytes, table.tableAt) : inOrder(source);
  if (!reader) return null;
  const value = reader.valueOf(table?.top ?? 0);
  if (value === DAMAGED) return null;
  return { value, problem: table === null ? NO_TRAILER : reader.isDamaged ? SOME_DAMAGED : null };
}

interface Table {
  readonly offsets: readonly number[];
  readonly refBytes: number;
  readonly top: number;
  readonly tableAt: number;
}

/** Reads an unsigned number, big-endian; one that is larger than 2^53 leads nowhere. */
function numberAt(source: Buffer, at: number, length: number): number {
  let value = 0;
  for (let i = 0; i < length; i += 1) value = value * 256 + (source[at + i] ?? 0);
  return value;
}

/** The table of offsets the trailer leads to; null: one of them is gone. */
function tableOf(source: Buffer): Table | null {
  const trailer = source.length - TRAILER.size;
  if (trailer < FIRST_AT) return null;
  const offsetBytes = source[trailer + TRAILER.offsetBytes] as number;
  const refBytes = source[trailer + TRAILER.refBytes] as number;
  const [count, top, tableAt] = [TRAILER.count, TRAILER.top, TRAILER.tableAt].map((at) => numberAt(source, trailer + at, 8)) as [
    number,
    number,
    number,
  ];
  if (offsetBytes < 1 || offsetBytes > 8 || refBytes < 1 || refBytes > 8 || count < 1 || count > MOST_OBJECTS || top >= count) return null;
  if (tableAt <= FIRST_AT || tableAt + count * offsetBytes > trailer) return null;
  const offsets = Array.from({ length: count }, (_, index) => numberAt(source, tableAt + index * offsetBytes, offsetBytes));
  // A table of which most is zeros, or that leads elsewhere, is damaged itself.
  const sound = offsets.filter((offset) => offset >= FIRST_AT && offset < tableAt).length;
  return sound * 2 > count ? { offsets, refBytes, top, tableAt } : null;
}

/** Objects one behind another from the first on, where no table leads to them: each is known by its place in their row. */
function inOrder(source: Buffer): Objects | null {
  let best: { offsets: number[]; end: number; refBytes: number } | null = null;
  for (const refBytes of REF_BYTES) {
    const found = scan(source, refBytes);
    if (!best || found.end > best.end) best = { ...found, refBytes };
  }
  return best && best.offsets.length > 0 ? new Objects(source, best.offsets, best.refBytes, best.end) : null;
}

function scan(source: Buffer, refBytes: number): { offsets: number[]; end: number } {
  const offsets: number[] = [];
  let at = FIRST_AT;
  while (at < source.length && offsets.length < MOST_OBJECTS && !isTable(source, at, offsets)) {
    const item = itemAt(source, at, refBytes, source.length);
    // A row of objects without any value is a stretch of zeros.
    if (!item || (source[at] === 0 && source[at + 1] === 0)) break;
    offsets.push(at);
    at = item.end;
  }
  return { offsets, end: at };
}

/** Whether the table of offsets stands at a place: its first entries are those of the objects found so far. */
function isTable(source: Buffer, at: number, offsets: readonly number[]): boolean {
  if (offsets.length < LEAST_AGREEING) return false;
  for (let width = 1; width <= 4; width += 1) {
    let agreeing = 0;
    while (agreeing < Math.min(offsets.length, 8) && numberAt(source, at + agreeing * width, width) === offsets[agreeing]) agreeing += 1;
    if (agreeing >= LEAST_AGREEING && (agreeing === Math.min(offsets.length, 8) || at + (agreeing + 1) * width > source.length))
      return true;
  }
  return false;
}

/** Reads the object at a place; null: none is there, or it leads beyond the end. */
function itemAt(source: Buffer, at: number, refBytes: number, limit: number): Item | null {
  const mark = source[at];
  if (mark === undefined || at >= limit) return null;
  const [high, low] = [mark >> 4, mark & 15];
  const single = (value: unknown, length: number): Item | null =>
    at + 1 + length <= limit ? { kind: "single", value, end: at + 1 + length } : null;
  if (high === 0)
    return mark === 0 || mark === 8 || mark === 9 || mark === 15 ? single(mark === 9 ? true : mark === 8 ? false : null, 0) : null;
  if (high === 1) return low <= 4 ? single(integerAt(source, at + 1, 1 << low), 1 << low) : null;
  if (mark === 0x22) return at + 5 <= limit ? single(source.readFloatBE(at + 1), 4) : null;
  if (mark === 0x23) return at + 9 <= limit ? single(source.readDoubleBE(at + 1), 8) : null;
  if (mark === 0x33) return at + 9 <= limit ? single(new Date(EPOCH_2001_MS + source.readDoubleBE(at + 1) * 1000), 8) : null;
  if (high === 8) return single({ UID: numberAt(source, at + 1, low + 1) }, low + 1);
  const counted = countAt(source, at, low, limit);
  if (!counted) return null;
  const { count, from } = counted;
  const room = limit - from;
  if (high === 4)
    return count <= room ? { kind: "single", value: Uint8Array.from(source.subarray(from, from + count)), end: from + count } : null;
  if (high === 5) return count <= room ? { kind: "single", value: source.toString("latin1", from, from + count), end: from + count } : null;
  if (high === 6) return count * 2 <= room ? { kind: "single", value: wideText(source, from, count), end: from + count * 2 } : null;
  if (high !== 10 && high !== 12 && high !== 13) return null;
  const references = high === 13 ? count * 2 : count;
  if (references * refBytes > room || references > MOST_OBJECTS) return null;
  const refs = Array.from({ length: references }, (_, index) => numberAt(source, from + index * refBytes, refBytes));
  return { kind: high === 13 ? "map" : "list", refs, end: from + references * refBytes };
}

/** A whole number: of eight bytes and more it has a sign. */
function integerAt(source: Buffer, at: number, length: number): number | bigint | null {
  if (at + length > source.length) return null;
  if (length < 8) return numberAt(source, at, length);
  let value = 0n;
  for (let i = 0; i < length; i += 1) value = (value << 8n) | BigInt(source[at + i] as number);
  const signed = BigInt.asIntN(length * 8, value);
  return signed >= BigInt(Number.MIN_SAFE_INTEGER) && signed <= BigInt(Number.MAX_SAFE_INTEGER) ? Number(signed) : signed;
}

/** How many there are of what an object holds: in its mark, or where that is full in a number behind it. */
function countAt(source: Buffer, at: number, low: number, limit: number): { count: number; from: number } | null {
  if (low < 15) return { count: low, from: at + 1 };
  const mark = source[at + 1] ?? 0;
  const length = 1 << (mark & 15);
  if (mark >> 4 !== 1 || length > 8 || at + 2 + length > limit) return null;
  return { count: numberAt(source, at + 2, length), from: at + 2 + length };
}

const wideText = (source: Buffer, from: number, count: number): string =>
  Buffer.from(source.subarray(from, from + count * 2))
    .swap16()
    .toString("utf16le");

/** The objects of a list, by their numbers. */
class Objects {
  /** Something was asked for that is damaged or not there. */
  isDamaged = false;
  #values = 0;
  readonly #open = new Set<number>();
  /** Where another object begins: none reaches over that. */
  readonly #starts: Float64Array;
  /** Most objects end before the next one begins: whoever wrote the list leaves room between them. */
  readonly #isRoomy: boolean;

  constructor(
    private readonly source: Buffer,
    private readonly offsets: readonly number[],
    private readonly refBytes: number,
    private readonly end: number,
  ) {
    this.#starts = Float64Array.from(new Set(offsets)).sort();
    const gaps = offsets.filter((at) => {
      const item = itemAt(source, at, refBytes, end);
      return item !== null && item.end < this.#startBehind(at);
    });
    this.#isRoomy = gaps.length * 2 > offsets.length;
  }

  valueOf(index: number, depth = 0): unknown {
    this.#values += 1;
    const at = this.offsets[index];
    const item =
      at === undefined || at < FIRST_AT || this.#values > MOST_VALUES || depth > MOST_DEPTH || this.#open.has(index)
        ? null
        : itemAt(this.source, at, this.refBytes, this.end);
    if (!item || at === undefined || !this.#isSound(item, at)) return this.#damaged();
    if (item.kind === "single") return item.value;
    this.#open.add(index);
    const value = item.kind === "list" ? this.#listOf(item.refs ?? [], depth) : this.#mapOf(item.refs ?? [], depth);
    this.#open.delete(index);
    return value;
  }

  #listOf(refs: readonly number[], depth: number): unknown[] {
    const list: unknown[] = [];
    for (const ref of refs) {
      if (this.#values > MOST_VALUES) break;
      list.push(this.valueOf(ref, depth + 1));
    }
    return list;
  }

  #mapOf(refs: readonly number[], depth: number): Record<string, unknown> {
    const map: Record<string, unknown> = {};
    const count = refs.length / 2;
    for (let i = 0; i < count && this.#values <= MOST_VALUES; i += 1) {
      const name = this.valueOf(refs[i] as number, depth + 1);
      const value = this.valueOf(refs[count + i] as number, depth + 1);
      // Without its name a value is still given.
      const key = typeof name === "string" || typeof name === "number" ? String(name) : `? ${i + 1}`;
      Object.defineProperty(map, key, { value, enumerable: true, configurable: true, writable: true });
    }
    return map;
  }

  /** Whether an object ends where the next one begins, and holds no zeros as letters: one that does not was written over. */
  #isSound({ end, value }: Item, at: number): boolean {
    const next = this.#startBehind(at);
    if (end > next || (end < next && !this.#isRoomy)) return false;
    return typeof value !== "string" || !value.includes("\0");
  }

  #startBehind(at: number): number {
    let [low, high] = [0, this.#starts.length];
    while (low < high) {
      const middle = (low + high) >> 1;
      if ((this.#starts[middle] as number) > at) high = middle;
      else low = middle + 1;
    }
    return low < this.#starts.length ? (this.#starts[low] as number) : this.end;
  }

  #damaged(): typeof DAMAGED {
    this.isDamaged = true;
    return DAMAGED;
  }
}
