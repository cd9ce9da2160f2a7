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
/** In the table of steps: a mark may end here; the step beside it is one byte. */
const HIT = 64;
const STEPS = 1 << 14;

/** All marks of the wanted formats, ready to be looked for in one pass over the bytes. */
export class SignatureIndex {
  readonly #atStart = new Uint8Array(65_536);
  readonly #atFour = new Uint8Array(65_536);
  readonly #later: number[] = [];
  readonly #marks = new Map<number, Map<number, Mark[]>>();
  readonly #steps = new Uint8Array(STEPS).fill(WINDOW - 1);
  readonly #windows = new Map<number, Mark[]>();
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
    const { bytes } = mark;
    // Marks that begin with zeros are everywhere; short ones mean nothing at odd places. Both are looked for at sectors only.
    if (bytes[0] === 0 || bytes.length < WINDOW) return;
    for (let i = 0; i < WINDOW - 1; i += 1) {
      const slot = slotOf(bytes[i] as number, bytes[i + 1] as number);
      const step = WINDOW - 2 - i;
      if (step === 0) this.#steps[slot] = HIT | 1;
      else if (!((this.#steps[slot] as number) & HIT)) this.#steps[slot] = Math.min(this.#steps[slot] as number, step);
    }
    const key = pair(bytes, 2);
    this.#windows.set(key, [...(this.#windows.get(key) ?? []), mark]);
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
   * Files that may begin at any byte of `block` but a sector's first, found by marks of four bytes or more: two bytes tell how far
   * the next place lies at which one could end (after Wu and Manber, "A fast algorithm for multi-pattern searching", 1994).
   */
  anywhere(block: Uint8Array, length: number): Candidate[] {
    const found: Candidate[] = [];
    for (const at of this.#places(block, Math.min(length, block.length - WINDOW)))
      for (const { back, bytes, format } of this.#windows.get(pair(block, at + 2)) ?? [])
        if (back < SECTOR && (at - back) % SECTOR !== 0 && stands(block, at, bytes))
          found.push({ at: at - back, formats: [format], text: false });
    return found;
  }

  /** Places where a mark may stand. Four quarters are walked at once: each step waits for its own bytes, not for the others'. */
  #places(block: Uint8Array, end: number): number[] {
    const found: number[] = [];
    const steps = this.#steps;
    const quarter = Math.floor(end / 4);
    let [a, b, c, d] = [0, quarter, 2 * quarter, 3 * quarter];
    const [endA, endB, endC] = [b, c, d];
    while (a < endA && b < endB && c < endC && d < end) {
      const stepA = steps[((block[a + 2] as number) ^ ((block[a + 3] as number) << 6)) & 0x3fff] as number;
      const stepB = steps[((block[b + 2] as number) ^ ((block[b + 3] as number) << 6)) & 0x3fff] as number;
      const stepC = steps[((block[c + 2] as number) ^ ((block[c + 3] as number) << 6)) & 0x3fff] as number;
      const stepD = steps[((block[d + 2] as number) ^ ((block[d + 3] as number) << 6)) & 0x3fff] as number;
      if ((stepA | stepB | stepC | stepD) & HIT) {
        if (stepA & HIT) found.push(a);
        if (stepB & HIT) found.push(b);
        if (stepC & HIT) found.push(c);
        if (stepD & HIT) found.push(d);
      }
      a += stepA & 3;
      b += stepB & 3;
      c += stepC & 3;
      d += stepD & 3;
    }
    for (const [from, to] of [
      [a, endA],
      [b, endB],
      [c, endC],
      [d, end],
    ] as const)
      for (let at = from; at < to; ) {
        const step = steps[slotOf(block[at + 2] as number, block[at + 3] as number)] as number;
        if (step & HIT) found.push(at);
        at += step & 3;
      }
    return found;
  }
}

const pair = (bytes: Uint8Array, at: number) => (bytes[at] as number) | ((bytes[at + 1] as number) << 8);
/** Two bytes' slot in the table of steps, which is small enough to stay near the processor. */
const slotOf = (first: number, second: number) => (first ^ (second << 6)) & (STEPS - 1);

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
