import type { Format } from "../formats/format";
import { FORMATS } from "../formats/registry";
import { traitsOf } from "../formats/traits";
import { MAY, MarkSearch, pairOf, SECTOR, WORD, wordOf } from "./mark-search";
import { isFill, isTextByte, mayBeText, readsAsText } from "./text-beginning";
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

/** Text that follows fill begins anew, where clusters mostly begin. */
const CLUSTER = 4096;
/** The four bytes looked for stand this near to their mark's beginning, or nearer. */
const LONGEST = 64;

/** All marks of the wanted formats, ready to be looked for in one pass over the bytes. */
export class SignatureIndex {
  readonly #search = new MarkSearch();
  /** Marks by where they stand from a file's beginning, then by their first two bytes. */
  readonly #marks = new Map<number, Map<number, Mark[]>>();
  /** Marks by the four of their bytes that are looked for at every byte, and how far behind the mark's beginning those stand. */
  readonly #words = new Map<number, { mark: Mark; before: number }[]>();
  /** What is looked through, as far as it was filled. */
  #block = this.#search.block;

  /** @param wanted which formats are looked for */
  constructor(wanted: (format: Format) => boolean) {
    for (const format of FORMATS) {
      if (!wanted(format)) continue;
      for (const { at, mark } of format.signatures ?? []) {
        const found = { back: at, bytes: Uint8Array.from(mark, (byte) => byte.charCodeAt(0)), format };
        const key = pairOf(found.bytes, 0);
        const there = this.#marks.get(at) ?? new Map<number, Mark[]>();
        this.#marks.set(at, there.set(key, [...(there.get(key) ?? []), found]));
        // A mark far behind the beginning is met at the sector it stands in.
        if (at === 0 || at === 4 || at >= SECTOR) this.#search.addAtSectors(found.bytes, at === 4 ? 4 : 0);
        else this.#search.setLater(at, wordOf(found.bytes, 0));
        this.#addAnywhere(found);
      }
    }
    if (!textFormats.some(wanted)) return;
    for (let key = 0; key < 65_536; key += 1) if (mayBeText(key & 255, key >> 8)) this.#search.addText(key);
  }

  #addAnywhere(mark: Mark): void {
    const { bytes, format } = mark;
    if (bytes.length < WORD || mark.back >= SECTOR || traitsOf(format).atSectorsOnly) return;
    // Two zeros stand everywhere: four bytes without them are looked for. Marks that begin with zeros are left to the sectors.
    let from = 0;
    while (from + WORD <= Math.min(bytes.length, LONGEST) && hasZeros(bytes.subarray(from, from + WORD))) from += 1;
    if (bytes[0] === 0 || from + WORD > bytes.length) return;
    this.#search.addAnywhere(bytes, from);
    const word = wordOf(bytes, from);
    this.#words.set(word, [...(this.#words.get(word) ?? []), { mark, before: from }]);
  }

  /**
   * Takes in what is to be looked through.
   * @param length up to `BLOCK` bytes, and the `AHEAD` behind them as far as there are any
   * @param read fills the bytes it is given
   */
  take(length: number, read: (into: Uint8Array) => void): void {
    this.#block = this.#search.block.subarray(0, length);
    read(this.#block);
    this.#search.block.fill(0, length);
  }

  /**
   * Files that may begin at a sector of what was taken in.
   * @param length bytes that are looked at, up to `BLOCK`
   * @param offset where the block stands, for marks that stand far behind a file's beginning
   * @param before whether the byte before what was taken in is text; asked only where it matters
   */
  atSectors(length: number, offset: number, before: () => boolean): Candidate[] {
    const found: Candidate[] = [];
    const block = this.#block;
    let text = false;
    let next = 0;
    for (const place of this.#search.sectors(length)) {
      const at = place & -SECTOR;
      if (at !== next) text = false;
      else if (at === 0) text = (place & MAY.beText) !== 0 && before();
      next = at + SECTOR;
      const formats = (place & MAY.begin) !== 0 ? this.#formatsAt(block, at, offset, found) : [];
      const reads = (place & MAY.beText) !== 0 && readsAsText(block, at);
      if (text && reads && at >= SECTOR && (offset + at) % CLUSTER === 0 && isFill(block, at - SECTOR)) text = false;
      const begins = reads && !text && !isFill(block, at);
      if (formats.length > 0 || begins) found.push({ at, formats, text: begins });
      text = reads && isTextByte(block[at + SECTOR - 1] as number);
    }
    return found;
  }

  #formatsAt(block: Uint8Array, at: number, offset: number, found: Candidate[]): Format[] {
    const formats: Format[] = [];
    for (const [back, marks] of this.#marks) {
      const place = back < SECTOR ? at + back : at;
      for (const mark of marks.get(pairOf(block, place)) ?? []) {
        if (!stands(block, place, mark.bytes)) continue;
        // A mark far behind the beginning belongs to a file that began before.
        if (back < SECTOR) formats.push(mark.format);
        else if (offset + at >= back) found.push({ at: at - back, formats: [mark.format], text: false });
      }
    }
    return formats;
  }

  /**
   * Files that may begin at any byte of what was taken in but a sector's first: those whose mark begins in its first `length` bytes. The
   * beginning of a file with its mark further on may stand before them.
   */
  anywhere(length: number): Candidate[] {
    const found = new Map<number, { at: number; formats: Format[]; text: boolean }>();
    const block = this.#block;
    for (const at of this.#search.anywhere(length + LONGEST)) {
      for (const { mark, before } of this.#words.get(wordOf(block, at)) ?? []) {
        const place = at - before;
        const start = place - mark.back;
        if (place < 0 || place >= length || start % SECTOR === 0 || !stands(block, place, mark.bytes)) continue;
        const there = found.get(start);
        if (!there) found.set(start, { at: start, formats: [mark.format], text: false });
        else if (!there.formats.includes(mark.format)) there.formats.push(mark.format);
      }
    }
    return [...found.values()];
  }
}

const hasZeros = (bytes: Uint8Array) => bytes.some((byte, i) => byte === 0 && bytes[i + 1] === 0);

function stands(block: Uint8Array, at: number, mark: Uint8Array): boolean {
  if (at + mark.length > block.length) return false;
  for (let i = 0; i < mark.length; i += 1) if (block[at + i] !== mark[i]) return false;
  return true;
}
