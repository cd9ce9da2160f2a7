import { Growing } from "../bytes/growing";
import { writeText } from "../bytes/text";
import type { RecordRow, Rows } from "./entries/table";
import type { Value } from "./sqlite/record";

/** Bytes that are allocated at a time. */
const CHUNK = 4 << 20;
/** A row's place is its chunk times this, and the byte in it: more than the longest row. */
const SPAN = 2 ** 40;

/** What stands before a value: what it is, and how it is kept. */
const KIND = { unknown: 0, null: 1, int8: 2, int32: 3, double: 4, big: 5, text: 6, bytes: 7 } as const;
const HEAD = 5;
/** Bytes of a number with its kind, at most. */
const NUMBER = 9;
/** Bytes that are kept of each row beside its values. */
const ROW_BYTES = 18;

const STATES = ["live", "deleted"] as const;
const CONFIDENCES = ["whole", "part", "guess"] as const;
const FILES = [null, "main", "log", "journal"] as const;

/** Reads and writes values one behind the other. */
class Cursor {
  at = 0;

  constructor(readonly bytes: Buffer) {}

  write(value: Value | undefined): void {
    const { bytes } = this;
    if (value === undefined) this.#kind(KIND.unknown);
    else if (value === null) this.#kind(KIND.null);
    else if (typeof value === "bigint") {
      this.#kind(KIND.big);
      this.at = bytes.writeBigInt64LE(value, this.at);
    } else if (typeof value === "string") {
      const length = writeText(bytes, value, this.at + HEAD);
      this.#kind(KIND.text);
      this.at = bytes.writeUInt32LE(length, this.at) + length;
    } else if (value instanceof Uint8Array) {
      this.#kind(KIND.bytes);
      this.at = bytes.writeUInt32LE(value.length, this.at);
      bytes.set(value, this.at);
      this.at += value.length;
    } else if (value !== (value | 0) || Object.is(value, -0)) {
      this.#kind(KIND.double);
      this.at = bytes.writeDoubleLE(value, this.at);
    } else if (value >= -128 && value < 128) {
      this.#kind(KIND.int8);
      this.at = bytes.writeInt8(value, this.at);
    } else {
      this.#kind(KIND.int32);
      this.at = bytes.writeInt32LE(value, this.at);
    }
  }

  #kind(kind: number): void {
    this.bytes[this.at] = kind;
    this.at += 1;
  }

  /** Reads the next value, or passes it by. */
  read(wanted = true): Value | undefined {
    const { bytes, at } = this;
    switch (bytes[at]) {
      case KIND.null:
        this.at += 1;
        return null;
      case KIND.int8:
        this.at += 2;
        return bytes.readInt8(at + 1);
      case KIND.int32:
        this.at += 5;
        return bytes.readInt32LE(at + 1);
      case KIND.double:
        this.at += 9;
        return bytes.readDoubleLE(at + 1);
      case KIND.big:
        this.at += 9;
        return bytes.readBigInt64LE(at + 1);
      case KIND.text: {
        this.at += HEAD + bytes.readUInt32LE(at + 1);
        return wanted ? bytes.toString("utf8", at + HEAD, this.at) : undefined;
      }
      case KIND.bytes: {
        this.at += HEAD + bytes.readUInt32LE(at + 1);
        return wanted ? new Uint8Array(bytes.subarray(at + HEAD, this.at)) : undefined;
      }
      default:
        this.at += 1;
        return undefined;
    }
  }
}

/** Characters of a text above which its bytes are counted, so that no more room is taken than it needs. */
const LONG = 1 << 10;

/** Bytes a value takes at most. */
function mostOf(value: Value | undefined): number {
  if (typeof value === "string") return HEAD + (value.length > LONG ? Buffer.byteLength(value, "utf8") : value.length * 3);
  return value instanceof Uint8Array ? HEAD + value.length : NUMBER;
}

/** Bytes a row takes at most. */
export const mostBytesOf = ({ values }: RecordRow) =>
  values.reduce((sum: number, value) => sum + mostOf(value), NUMBER + NUMBER + ROW_BYTES);

/** Rows of a table that are kept as bytes: a million of them take what stands in them and little more. */
export class RowList implements Rows {
  readonly #chunks: Cursor[] = [];
  readonly #places = new Growing((length) => new Float64Array(length));
  /** Whether it counts (0) or is deleted (1). */
  readonly #states = new Growing((length) => new Uint8Array(length));
  /** Confidence, file and whether it was never committed, in bits. */
  readonly #traits = new Growing((length) => new Uint8Array(length));
  /** Where it stands in its file; -1: it has no place of its own. */
  readonly #at = new Growing((length) => new Float64Array(length));
  /** Of rows of several databases read as one: which of them have it, a bit each. Empty: there is one database. */
  readonly #in = new Growing((length) => new Uint16Array(length));

  static of(rows: Iterable<RecordRow>): RowList {
    const list = new RowList();
    for (const row of rows) list.append(row);
    return list;
  }

  get length(): number {
    return this.#places.length;
  }

  /** @returns how many bytes it takes */
  append(row: RecordRow): number {
    const { values, rowid, state, confidence, uncommitted, former, at, from, in: within } = row;
    const most = mostBytesOf(row);
    let chunk = this.#chunks.at(-1);
    if (!chunk || chunk.bytes.length - chunk.at < most) {
      chunk = new Cursor(Buffer.allocUnsafeSlow(Math.max(CHUNK, most)));
      this.#chunks.push(chunk);
    }
    const start = chunk.at;
    this.#places.push((this.#chunks.length - 1) * SPAN + start);
    this.#states.push(STATES.indexOf(state));
    this.#traits.push(CONFIDENCES.indexOf(confidence) | (FILES.indexOf(from) << 2) | (uncommitted ? 1 << 4 : 0) | (former ? 1 << 5 : 0));
    this.#at.push(at ?? -1);
    if (within) this.#in.push(within.reduce((bits, each) => bits | (1 << each), 0));
    chunk.write(rowid);
    chunk.write(values.length);
    for (const value of values) chunk.write(value);
    return chunk.at - start + ROW_BYTES;
  }

  at(index: number): RecordRow | undefined {
    const cursor = this.#cursorAt(index);
    if (!cursor) return undefined;
    const traits = this.#traits.get(index);
    const rowid = cursor.read() as RecordRow["rowid"];
    const values: (Value | undefined)[] = [];
    for (let left = cursor.read() as number; left > 0; left -= 1) values.push(cursor.read());
    const at = this.#at.get(index);
    const row = {
      values,
      rowid,
      state: this.stateAt(index),
      confidence: CONFIDENCES[traits & 3] ?? "guess",
      uncommitted: (traits & (1 << 4)) !== 0,
      former: (traits & (1 << 5)) !== 0,
      at: at < 0 ? null : at,
      from: FILES[(traits >> 2) & 3] ?? null,
    };
    if (this.#in.length === 0) return row;
    const bits = this.#in.get(index);
    return { ...row, in: Array.from({ length: 16 }, (_, i) => i).filter((i) => bits & (1 << i)) };
  }

  /** Of each row whether it counts (0) or is deleted (1), until a row is added. */
  get deleted(): Uint8Array {
    return this.#states.view;
  }

  stateAt(index: number): RecordRow["state"] {
    return STATES[this.#states.get(index)] ?? "live";
  }

  numberAt(index: number): RecordRow["rowid"] {
    return (this.#cursorAt(index)?.read() ?? null) as RecordRow["rowid"];
  }

  valueAt(index: number, column: number): Value | undefined {
    const cursor = this.#cursorAt(index);
    if (!cursor || column < 0) return undefined;
    cursor.read(false);
    if (column >= (cursor.read() as number)) return undefined;
    for (let passed = 0; passed < column; passed += 1) cursor.read(false);
    return cursor.read();
  }

  *[Symbol.iterator](): Generator<RecordRow> {
    for (let index = 0; index < this.length; index += 1) yield this.at(index) as RecordRow;
  }

  #cursorAt(index: number): Cursor | null {
    if (!(index >= 0 && index < this.length)) return null;
    const place = this.#places.get(index);
    const chunk = this.#chunks[Math.floor(place / SPAN)];
    if (!chunk) return null;
    const cursor = new Cursor(chunk.bytes);
    cursor.at = place % SPAN;
    return cursor;
  }
}
