import { localLength } from "./cell";
import { classOf, type Encoding, INTEGER, isText, lengthOf, readValue, TEXT } from "./record";
import type { Shape } from "./shape";
import { readRowId, readVarint, varintEnd, varintLength } from "./varint";

/** What is left of a row in bytes that no row uses. Offsets are in the page. */
export interface Remain {
  readonly shape: Shape;
  /** How much of the cell stands: all of it, all but its row number, or its values behind a head whose front is overwritten. */
  readonly left: "cell" | "record" | "values";
  readonly rowid: number | bigint | null;
  readonly types: readonly number[];
  /** Fields at the front whose types were worked out, where others would fit as well. */
  readonly guessed: number;
  readonly at: number;
  readonly bodyAt: number;
  readonly end: number;
  /** Bytes of the record, and those of them on this page. */
  readonly payload: number;
  readonly local: number;
  /** The first page of the rest; 0: all is here. */
  readonly overflow: number;
}

/** Bytes at the front of a freed cell that become the free block's own: the next block, and its length (file format 1.6). */
const BLOCK_HEAD = 4;
/** Bytes between two cells that are too few for a free block. */
const FRAGMENT = 3;
/** Ways to complete the front of one cell that are tried. */
const MOST_FRONTS = 256;

/** Ways to read bytes as a row that are tried at most; a page full of remains of rows takes some twenty a byte. */
const LEAST_READINGS = 5_000_000;
const READINGS_A_BYTE = 200;

/** How many readings are tried in a database of so many bytes. */
export const readingsFor = (bytes: number): { left: number } => ({ left: LEAST_READINGS + READINGS_A_BYTE * bytes });

/** A stretch of a page in which remains of rows are looked for. */
export interface Stretch {
  readonly bytes: Buffer;
  readonly usable: number;
  readonly encoding: Encoding;
  readonly from: number;
  readonly to: number;
  /** High bytes of the characters in rows that count, where texts have two bytes a character. */
  readonly scripts: Uint8Array;
  /** Where free blocks begin: cells began there. */
  readonly starts: ReadonlySet<number>;
  /** The likeliest first. */
  readonly shapes: readonly Shape[];
  /** Readings that may still be tried, over all stretches of a database: bytes made to fit everything must not take for ever. */
  readonly budget: { left: number };
}

/** Finds what is left of rows in a stretch: first records whose head stands, then between them those whose head lost its front. */
export function carve(stretch: Stretch): Remain[] {
  const records: Remain[] = [];
  let before = stretch.from;
  for (let at = stretch.from; at + 3 <= stretch.to; ) {
    const record = recordAt(stretch, at, before);
    if (record && !isOverwritten(stretch, record)) {
      records.push(record);
      before = record.end;
      at = record.end;
    } else at += 1;
  }
  const found: Remain[] = [];
  let from = stretch.from;
  for (const record of records) {
    found.push(...between(stretch, from, record.at, from !== stretch.from));
    found.push(record);
    from = record.end;
  }
  found.push(...between(stretch, from, stretch.to, from !== stretch.from));
  return found;
}

/** Whether a younger cell, or a free block, begins in the middle of a record: what is behind that is not its own any more. */
function isOverwritten(stretch: Stretch, { at, bodyAt, end }: Remain): boolean {
  for (let inner = at + 1; inner < end; inner += 1) {
    if (stretch.starts.has(inner)) return true;
    if (inner >= bodyAt && recordAt(stretch, inner, bodyAt)?.left === "cell") return true;
  }
  return false;
}

/** The body of a record: whether its values can be what the fields of the table hold. */
function isBody(stretch: Stretch, shape: Shape, types: readonly number[], bodyAt: number, end: number): boolean {
  const { bytes, encoding } = stretch;
  let at = bodyAt;
  for (let i = 0; i < types.length; i += 1) {
    const type = types[i] as number;
    const length = lengthOf(type);
    if (type >= 13 && type % 2 === 1) {
      // A text that goes on elsewhere is looked at as far as its last whole character may reach.
      const here = at + length <= end ? length : Math.max(0, Math.min(length, end - at) & ~3);
      const text = at + length <= end ? here : wholeCharacters(bytes, at, here, encoding);
      if (!isText(bytes, at, text, encoding) || (encoding !== "utf8" && !hasKnownScripts(stretch, at, text))) return false;
    } else if (type > 0 && type < 10 && type !== 7 && at + length <= end) {
      if (!shape.isLikely(i, Number(readValue(bytes, at, type, encoding)))) return false;
    } else if (type === 7 && at + length <= end) {
      const value = bytes.readDoubleBE(at);
      if (!Number.isFinite(value) || !shape.isLikely(i, value)) return false;
    }
    at += length;
    if (at > end) return true;
  }
  return true;
}

/** Whether the characters of a text in two bytes each are of scripts that stand in rows that count: any two bytes are some character. */
function hasKnownScripts({ bytes, encoding, scripts }: Stretch, at: number, length: number): boolean {
  for (let i = at + (encoding === "utf16le" ? 1 : 0); i < at + length; i += 2) if (!scripts[bytes[i] as number]) return false;
  return true;
}

/** Bytes of a text that was cut, up to the end of its last whole character. */
function wholeCharacters(bytes: Uint8Array, at: number, length: number, encoding: Encoding): number {
  if (encoding !== "utf8") return Math.max(0, length - 4) & ~1;
  for (let end = length; end > 0 && end > length - 4; end -= 1) {
    const byte = bytes[at + end] as number;
    if ((byte & 0xc0) !== 0x80) return end;
  }
  return 0;
}

/** A record whose head begins here, with the front of its cell where that stands too. */
function recordAt(stretch: Stretch, at: number, before: number): Remain | null {
  const { bytes, usable, to, shapes, budget } = stretch;
  const length = readVarint(bytes, at);
  const typesAt = varintEnd;
  const bodyAt = at + length;
  if (length < 2 || bodyAt > to) return null;
  let best: Remain | null = null;
  let most = 0;
  for (const shape of shapes) {
    if (length <= shape.least || length > 1 + shape.count * 5 || !shape.allows(0, bytes[typesAt] as number)) continue;
    if (--budget.left < 0) return best;
    const types = typesBetween(bytes, typesAt, bodyAt, shape, 0);
    if (!types || types.length < shape.least) continue;
    const payload = types.reduce((sum, type) => sum + lengthOf(type), length);
    const local = localLength(payload, usable, shape.hasRowId);
    const spilled = local < payload;
    const end = at + local + (spilled ? 4 : 0);
    if (end > to) continue;
    if (!isBody(stretch, shape, types, bodyAt, at + local)) continue;
    const front = frontBefore(bytes, at, payload, shape.hasRowId, before);
    // Without its front a record of few fields is too easily something else.
    if (!front && (types.length < 4 || payload - length < 6)) continue;
    const likeness = shape.likeness(types) + (front ? 10 : 0) + (shape === shapes[0] ? 0.5 : 0);
    if (best && likeness <= most) continue;
    most = likeness;
    best = {
      shape,
      left: front ? "cell" : "record",
      rowid: front?.rowid ?? null,
      types,
      guessed: 0,
      at: front?.at ?? Math.max(before, at - BLOCK_HEAD),
      bodyAt,
      end,
      payload,
      local,
      overflow: spilled ? bytes.readUInt32BE(at + local) : 0,
    };
  }
  return best;
}

/** The serial types up to where the body begins, from field `first` on. @returns null when they are not those of the table */
function typesBetween(bytes: Uint8Array, from: number, bodyAt: number, shape: Shape, first: number): number[] | null {
  const types: number[] = [];
  for (let next = from; next < bodyAt; next = varintEnd) {
    const type = readVarint(bytes, next);
    if (varintEnd > bodyAt || type === 10 || type === 11 || !shape.allows(first + types.length, type)) return null;
    types.push(type);
  }
  return types;
}

/** The length and the row number that stand before a record, where they agree with it. */
function frontBefore(
  bytes: Uint8Array,
  at: number,
  payload: number,
  hasRowId: boolean,
  least: number,
): { at: number; rowid: number | bigint | null } | null {
  const own = varintLength(payload);
  if (!hasRowId) {
    const start = at - own;
    return start >= least && readVarint(bytes, start) === payload && varintEnd === at ? { at: start, rowid: null } : null;
  }
  for (let length = 1; length <= 9; length += 1) {
    const start = at - length - own;
    if (start < least) return null;
    if (readVarint(bytes, start) !== payload || varintEnd !== at - length) continue;
    const rowid = readRowId(bytes, at - length);
    if (varintEnd === at) return { at: start, rowid };
  }
  return null;
}

/** Rows in the bytes between two records whose heads lost their front, one behind the other. */
function between(stretch: Stretch, from: number, to: number, isStart: boolean): Remain[] {
  const found: Remain[] = [];
  let known = isStart ? from : -1;
  for (let at = from; at + BLOCK_HEAD + 4 <= to; ) {
    const sure = at === known || stretch.starts.has(at);
    const best = withoutFront(stretch, at, to, sure, 1);
    if (best) {
      found.push(best.remain);
      at = best.remain.end;
      known = at;
    } else at += 1;
  }
  return found;
}

/** Whether the first four bytes may be those of a free block that begins here, wherever its cell ends. */
function mayBeBlock({ bytes, usable }: Stretch, at: number): boolean {
  const next = bytes.readUInt16BE(at);
  const length = bytes.readUInt16BE(at + 2);
  return length > BLOCK_HEAD && at + length <= usable && (next === 0 || (next > at + length && next < usable));
}

/**
 * How well the first four bytes are those of a free block that begins here (file format 1.6): where the next one is, 0 or behind it on the page, and a
 * length, of this cell or of more. 0: they are not.
 */
function blockScore({ bytes, usable }: Stretch, at: number, end: number): number {
  const next = bytes.readUInt16BE(at);
  const length = bytes.readUInt16BE(at + 2);
  if (next !== 0 && (next <= at + length || next >= usable)) return 0;
  if (at + length < end || at + length > usable) return 0;
  return at + length - end <= FRAGMENT ? 3 : 1;
}

/** How much has to speak for a row without its front: where cells are known to begin, and elsewhere. */
const ENOUGH_AT_START = 5;
const ENOUGH_ELSEWHERE = 7;

/** The best reading of a cell that begins here and whose first four bytes are a free block's. @param ahead how many cells behind it are looked at */
function withoutFront(stretch: Stretch, at: number, to: number, sure: boolean, ahead: number): { remain: Remain; score: number } | null {
  const { bytes, shapes } = stretch;
  if (!sure && !mayBeBlock(stretch, at)) return null;
  const from = at + BLOCK_HEAD;
  let best: { remain: Remain; score: number } | null = null;
  let others = 0;
  shapes.forEach((shape, rank) => {
    // Bytes of the head's serial types that were lost: four less those of the cell's length, its row number and the head's length.
    const most = shape.hasRowId ? 1 : 2;
    for (let lost = 0; lost <= most; lost += 1) {
      for (let fields = 0; fields <= lost; fields += 1) {
        if ((lost === 0) !== (fields === 0)) continue;
        const standing = standingTypes(bytes, from, to, shape, fields);
        for (let count = shape.count; count >= Math.max(shape.least, fields + 1); count -= 1) {
          if (--stretch.budget.left < 0) return;
          // One field that stands says too little, unless it is a time.
          if (count - fields > standing.types.length || (count - fields < 2 && !shape.hasLargeNumbers(fields))) continue;
          const types = standing.types.slice(0, count - fields);
          const bodyAt = standing.ends[count - fields - 1] as number;
          for (const candidate of fronts(stretch, shape, at, to, lost, fields, types, bodyAt)) {
            const block = blockScore(stretch, at, candidate.end);
            if (!sure && block === 0) continue;
            const score = scoreOf(stretch, candidate, to, rank, ahead) + block;
            if (candidate.shape === best?.remain.shape && candidate.end === best.remain.end && !shape.isCertain(fields)) others += 1;
            if (!best || score > best.score) best = { remain: candidate, score };
          }
        }
      }
    }
  });
  const chosen = best as { remain: Remain; score: number } | null;
  if (!chosen || chosen.score < (sure ? ENOUGH_AT_START : ENOUGH_ELSEWHERE)) return null;
  return { ...chosen, remain: { ...chosen.remain, guessed: others > 0 ? chosen.remain.guessed : 0 } };
}

/** The serial types that stand one behind the other, as far as those of the table can: from field `first` on, and where each ends. */
function standingTypes(
  bytes: Uint8Array,
  from: number,
  to: number,
  shape: Shape,
  first: number,
): { readonly types: readonly number[]; readonly ends: readonly number[] } {
  const types: number[] = [];
  const ends: number[] = [];
  for (let next = from; next < to && first + types.length < shape.count; next = varintEnd) {
    const type = readVarint(bytes, next);
    if (type === 10 || type === 11 || !shape.allows(first + types.length, type)) break;
    types.push(type);
    ends.push(varintEnd);
  }
  return { types, ends };
}

/** The ways to complete the lost serial types so that lengths and values agree. */
function* fronts(
  stretch: Stretch,
  shape: Shape,
  at: number,
  to: number,
  lost: number,
  fields: number,
  visible: readonly number[],
  bodyAt: number,
): Generator<Remain> {
  const { bytes, usable } = stretch;
  const known = visible.reduce((sum, type) => sum + lengthOf(type), 0);
  const headRest = bodyAt - at - BLOCK_HEAD;
  let tried = 0;
  for (const front of combinations(shape, fields, to - bodyAt - known)) {
    if (tried++ > MOST_FRONTS || --stretch.budget.left < 0) return;
    if (front.reduce((sum, type) => sum + varintLength(type), 0) !== lost) continue;
    const types = [...front, ...visible];
    const payload = 1 + lost + headRest + known + front.reduce((sum, type) => sum + lengthOf(type), 0);
    // The length of the cell and its row number take what the lost bytes leave.
    const rowIdLength = BLOCK_HEAD - 1 - lost - varintLength(payload);
    if (shape.hasRowId ? rowIdLength < 1 : rowIdLength !== 0) continue;
    const local = localLength(payload, usable, shape.hasRowId);
    const bodyEnd = bodyAt + local - (1 + lost + headRest);
    const spilled = local < payload;
    const end = bodyEnd + (spilled ? 4 : 0);
    if (end > to || bodyEnd < bodyAt || !isBody(stretch, shape, types, bodyAt, bodyEnd)) continue;
    const overflow = spilled ? bytes.readUInt32BE(bodyEnd) : 0;
    yield { shape, left: "values", rowid: null, types, guessed: fields, at, bodyAt, end, payload, local, overflow };
  }
}

/** Serial types of the first fields: as they were seen, and for one text or blob the length that fills the room. */
function* combinations(shape: Shape, fields: number, room: number): Generator<number[]> {
  if (fields === 0) {
    yield [];
    return;
  }
  const options = (field: number, rest: number): number[] => {
    const open = shape.isOpen(field);
    const fixed = shape.usual(field).filter((type) => type < 12);
    if (!open || rest < 0) return fixed;
    const fill = (open & TEXT ? 13 : 12) + rest * 2;
    return [...fixed, fill];
  };
  if (fields === 1) {
    for (const type of options(0, room)) yield [type];
    return;
  }
  for (const second of shape.isOpen(0) ? shape.usual(1).filter((type) => type < 12) : options(1, room))
    for (const first of options(0, room - lengthOf(second))) yield [first, second];
}

/** How much speaks for a row: where it ends, what stands behind it, texts and times in it, how usual it is. */
function scoreOf(stretch: Stretch, { shape, types, bodyAt, end, guessed }: Remain, to: number, rank: number, ahead: number): number {
  let score = Math.min(3, (types.length - guessed) / 2) - Math.min(2, rank / 4);
  if (to - end <= FRAGMENT || stretch.starts.has(end)) score += 3;
  else if (ahead > 0 && followed(stretch, end, to, ahead)) score += 2;
  let at = bodyAt;
  types.forEach((type, field) => {
    const length = lengthOf(type);
    if (classOf(type) === TEXT) score += Math.min(3, length / 4);
    else if (classOf(type) === INTEGER && length >= 4 && shape.hasLargeNumbers(field)) score += 2;
    else if (type === 7 && shape.hasLargeNumbers(field)) score += 2;
    if (field < guessed) {
      score += shape.frequency(field, type);
      if (classOf(type) === INTEGER && shape.isWithin(field, Number(readValue(stretch.bytes, at, type, stretch.encoding)))) score += 1.5;
    }
    at += length;
  });
  return score;
}

const followed = (stretch: Stretch, at: number, to: number, ahead: number) =>
  recordSoon(stretch, at) || withoutFront(stretch, at, to, true, ahead - 1) !== null;

/** Whether a whole cell begins here. */
function recordSoon(stretch: Stretch, at: number): boolean {
  for (let head = at + 1; head < Math.min(stretch.to, at + 14); head += 1) {
    const record = recordAt(stretch, head, at);
    if (record?.left === "cell" && record.at === at) return true;
  }
  return false;
}
