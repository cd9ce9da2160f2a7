import type { Format } from "../formats/format";
import { FORMATS } from "../formats/registry";
import { textFormats } from "./text-candidates";

/** A place where files may begin, and the formats whose mark stands there. */
export interface Candidate {
  /** Bytes from the beginning of the block the matcher was given. */
  readonly at: number;
  readonly formats: readonly Format[];
  /** It reads like text from here on. */
  readonly text: boolean;
}

interface Mark {
  readonly back: number;
  readonly bytes: Uint8Array;
  readonly format: Format;
}

/** Sectors are looked at where nothing else is asked for: files begin at them. */
export const SECTOR = 512;
/** Bytes behind a block that the matcher may look at. */
export const AHEAD = 512;
/** A mark can be searched for at every byte when it has this many. */
const WINDOW = 4;

/** What two bytes at a sector's beginning may mean. */
const MAY = { begin: 1, beText: 2 } as const;
/** Formats whose marks are ordinary words: at odd places they mean nothing. */
const WORDS_ONLY: ReadonlySet<string> = new Set(["eml", "mbox", "html"]);

/** All marks of the wanted formats, ready to be looked for in one pass over the bytes. */
export class SignatureIndex {
  readonly #atStart = new Uint8Array(65_536);
  readonly #atFour = new Uint8Array(65_536);
  readonly #later: number[] = [];
  readonly #marks = new Map<number, Map<number, Mark[]>>();
  /** Which pairs of bytes tell that a mark may stand around them. */
  readonly #pairs = new Uint8Array(65_536);
  readonly #windows = new Map<number, { mark: Mark; before: number }[]>();
  readonly #text: boolean;

  /** @param wanted which formats are looked for */
  constructor(wanted: (format: Format) => boolean) {
    for (const format of FORMATS) {
      if (!wanted(format)) continue;
      for (const { at, mark } of format.signatures ?? []) {
        const found = { back: at, bytes: Uint8Array.from(mark, (byte) => byte.charCodeAt(0)), format };
        const key = pair(found.bytes, 0);
        const there = this.#marks.get(at) ?? new Map<number, Mark[]>();
        this.#marks.set(at, there.set(key, [...(there.get(key) ?? []), found]));
        if (at === 4) this.#atFour[key] = MAY.begin;
        else if (at === 0 || at >= SECTOR) this.#atStart[key] = MAY.begin;
        else if (!this.#later.includes(at)) this.#later.push(at);
        this.#addAnywhere(found);
      }
    }
    this.#text = textFormats.some(wanted);
    if (!this.#text) return;
    for (let key = 0; key < 65_536; key += 1)
      if (mayBeText(key & 255, key >> 8)) this.#atStart[key] = (this.#atStart[key] as number) | MAY.beText;
  }

  #addAnywhere(mark: Mark): void {
    const { bytes, format } = mark;
    if (bytes.length < WINDOW || mark.back >= SECTOR || WORDS_ONLY.has(format.id)) return;
    // Two zeros stand everywhere: a window without them is looked for. Marks that begin with zeros are left to the sectors.
    let from = 0;
    while (from + WINDOW <= bytes.length && hasZeros(bytes.subarray(from, from + WINDOW))) from += 1;
    if (bytes[0] === 0 || from + WINDOW > bytes.length) return;
    // Whether the window begins at an even place or an odd one, one of two pairs stands at an even place: the middle one, and of the
    // outer two the one that other marks have as well.
    const outer = this.#windows.has(pair(bytes, from + 2)) ? 2 : 0;
    for (const i of [1, outer]) {
      const key = pair(bytes, from + i);
      this.#pairs[key] = 1;
      const there = this.#windows.get(key);
      if (there) there.push({ mark, before: from + i });
      else this.#windows.set(key, [{ mark, before: from + i }]);
    }
  }

  /**
   * Files that may begin at a sector of `block`.
   * @param length bytes of the block that are looked at; up to `AHEAD` more may stand behind them
   * @param offset where the block stands, for marks that stand far behind a file's beginning
   * @param before the byte before the block is text
   */
  atSectors(block: Uint8Array, length: number, offset: number, before: boolean): Candidate[] {
    const found: Candidate[] = [];
    const [atStart, atFour, later] = [this.#atStart, this.#atFour, this.#later[0] ?? 0];
    const laterByte = later > 0 ? this.#firstByteAt(later) : 0;
    let text = before;
    for (let at = 0; at < length; at += SECTOR) {
      const may =
        (atStart[(block[at] as number) | ((block[at + 1] as number) << 8)] as number) |
        (atFour[(block[at + 4] as number) | ((block[at + 5] as number) << 8)] as number);
      const hit = (may & MAY.begin) !== 0 || (later > 0 && block[at + later] === laterByte);
      if (may === 0 && !hit) {
        text = false;
        continue;
      }
      const formats = hit ? this.#formatsAt(block, at, offset, found) : [];
      const reads = (may & MAY.beText) !== 0 && readsAsText(block, at);
      if (text && reads && at >= SECTOR && (offset + at) % CLUSTER === 0 && isFill(block, at - SECTOR)) text = false;
      const begins = reads && !text && !isFill(block, at);
      if (formats.length > 0 || begins) found.push({ at, formats, text: begins });
      text = reads && isTextByte(block[at + SECTOR - 1] as number);
    }
    return found;
  }

  /** Marks within the first sector but neither at its beginning nor four bytes on share their place and first byte (an archive's). */
  #firstByteAt(back: number): number {
    const [mark] = [...(this.#marks.get(back)?.values() ?? [])].flat();
    return mark?.bytes[0] ?? 0;
  }

  #formatsAt(block: Uint8Array, at: number, offset: number, found: Candidate[]): Format[] {
    const formats: Format[] = [];
    for (const [back, marks] of this.#marks) {
      const place = back < SECTOR ? at + back : at;
      for (const mark of marks.get(pair(block, place)) ?? []) {
        if (!stands(block, place, mark.bytes)) continue;
        // A mark far behind the beginning tells of a file that began before.
        if (back < SECTOR) formats.push(mark.format);
        else if (offset + at >= back) found.push({ at: at - back, formats: [mark.format], text: false });
      }
    }
    return formats;
  }

  /**
   * Files that may begin at any byte of `block` but a sector's first. Every mark of four bytes has two of them at an even place,
   * whatever its own: so only pairs at even places are looked up, each by itself, which keeps the processor's units busy.
   */
  anywhere(block: Uint8Array, length: number): Candidate[] {
    const found = new Map<number, { at: number; formats: Format[]; text: boolean }>();
    const end = Math.min(length, block.length - 1);
    const words = new Uint32Array(block.buffer, block.byteOffset, Math.floor(end / 4));
    for (const at of pairsIn(words, this.#pairs)) {
      for (const { mark, before } of this.#windows.get(pair(block, at)) ?? []) {
        const place = at - before;
        const start = place - mark.back;
        if (place < 0 || start % SECTOR === 0 || !stands(block, place, mark.bytes)) continue;
        const there = found.get(start);
        if (!there) found.set(start, { at: start, formats: [mark.format], text: false });
        else if (!there.formats.includes(mark.format)) there.formats.push(mark.format);
      }
    }
    return [...found.values()];
  }
}

/** The byte places of all pairs at even places that are in the table; four words are looked at together, because hardly any has one. */
function pairsIn(words: Uint32Array, table: Uint8Array): number[] {
  const found: number[] = [];
  const four = words.length & ~3;
  for (let i = 0; i < four; i += 4) {
    const a = words[i] as number;
    const b = words[i + 1] as number;
    const c = words[i + 2] as number;
    const d = words[i + 3] as number;
    const any =
      (table[a & 0xffff] as number) |
      (table[a >>> 16] as number) |
      (table[b & 0xffff] as number) |
      (table[b >>> 16] as number) |
      (table[c & 0xffff] as number) |
      (table[c >>> 16] as number) |
      (table[d & 0xffff] as number) |
      (table[d >>> 16] as number);
    if (any !== 0) pairsOf(words, i, i + 4, table, found);
  }
  pairsOf(words, four, words.length, table, found);
  return found;
}

function pairsOf(words: Uint32Array, from: number, to: number, table: Uint8Array, found: number[]): void {
  for (let i = from; i < to; i += 1) {
    const word = words[i] as number;
    if (table[word & 0xffff]) found.push(i * 4);
    if (table[word >>> 16]) found.push(i * 4 + 2);
  }
}

const hasZeros = (bytes: Uint8Array) => bytes.some((byte, i) => byte === 0 && bytes[i + 1] === 0);
const pair = (bytes: Uint8Array, at: number) => (bytes[at] as number) | ((bytes[at + 1] as number) << 8);
function stands(block: Uint8Array, at: number, mark: Uint8Array): boolean {
  if (at + mark.length > block.length) return false;
  for (let i = 0; i < mark.length; i += 1) if (block[at + i] !== mark[i]) return false;
  return true;
}

/** Text that follows fill begins anew, where clusters mostly begin. */
const CLUSTER = 4096;

/** Whether a sector is mostly one and the same letter. */
function isFill(block: Uint8Array, at: number): boolean {
  if (isWide(block, at)) return false;
  const counts = new Uint16Array(256);
  let most = 0;
  for (let i = at; i < at + SECTOR; i += 1) {
    const count = (counts[block[i] as number] as number) + 1;
    counts[block[i] as number] = count;
    if (count > most) most = count;
  }
  return most > SECTOR * 0.3;
}

const isTextByte = (byte: number) => (byte >= 32 ? byte !== 127 : byte === 9 || byte === 10 || byte === 13);

const isWide = (block: Uint8Array, at: number) =>
  (block[at] === 0xff && block[at + 1] === 0xfe) || (block[at] === 0xfe && block[at + 1] === 0xff);

/** Whether text can begin with these two bytes. */
function mayBeText(first: number, second: number): boolean {
  if (first < 0x80) return isTextByte(first) && isTextByte(second);
  return (first >= 0xc2 && first < 0xf5 && second >= 0x80 && second < 0xc0) || first + second === 0x1fd;
}

/** Whether the first bytes from here could be text: printable in an 8-bit code or UTF-8, or UTF-16 with its mark. */
function readsAsText(block: Uint8Array, at: number): boolean {
  if (isWide(block, at)) return true;
  let high = 0;
  for (let i = at; i < at + 32; i += 1) {
    const byte = block[i] as number;
    if (!isTextByte(byte)) return false;
    if (byte >= 0x80) high += 1;
  }
  // Letters beyond ASCII are some among many in one-byte codes; where they are most, only UTF-8 can have been meant.
  return high <= 8 || isUtf8(block.subarray(at, at + 32));
}

/** Whether these are letters in UTF-8 (RFC 3629, 4), the last perhaps cut off. */
function isUtf8(bytes: Uint8Array): boolean {
  let pending = 0;
  for (const byte of bytes) {
    if (pending > 0) {
      if ((byte & 0xc0) !== 0x80) return false;
      pending -= 1;
    } else if (byte >= 0x80) {
      if (byte < 0xc2 || byte > 0xf4) return false;
      pending = byte < 0xe0 ? 1 : byte < 0xf0 ? 2 : 3;
    }
  }
  return true;
}
