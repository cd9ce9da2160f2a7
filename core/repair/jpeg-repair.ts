import type { BlockReader } from "../bytes/block-reader";
import { type ByteSource, MemorySource } from "../bytes/byte-source";
import type { Segment } from "../bytes/layout";
import { type FollowedJpeg, followJpeg } from "../formats/jpeg/jpeg";
import { MARKER, PROGRESSIVE } from "../formats/jpeg/markers";
import type { OpenScan } from "../formats/jpeg/open-scan";
import { type HuffmanTable, ScanReader, type ScanState } from "../formats/jpeg/scan";
import { kept, made, type Repaired } from "./repaired";

const END = Uint8Array.of(0xff, MARKER.eoi);
/** Bytes behind the damage at which the data may make sense again. */
const MOST_SKIPPED = 1 << 16;
/** Bytes of a picture's data that are rewritten in memory. */
const MOST_REWRITTEN = 1 << 26;
const MOST_ROUNDS = 64;

/**
 * A picture that opens again: what breaks off is closed, a damaged stretch is left out (its place filled with an even colour), a
 * header that is gone is borrowed from a sound picture of the same camera.
 */
export function repairJpeg(reader: BlockReader, sibling: BlockReader | null): Repaired | null {
  if (!reader.has(0, "\xff\xd8")) return sibling ? borrowed(reader, sibling) : null;
  const followed = followJpeg(reader.source, true);
  if (!followed.frame || followed.dataAt === 0) return sibling ? borrowed(reader, sibling) : null;
  if (!followed.open) {
    // All data are there, or something else than data is wrong: the end is written where the parts still made sense.
    const { verdict, size } = followed.extent;
    const at = verdict.verdict === "damaged" ? Math.min(verdict.at, size) : size;
    return at > followed.dataAt
      ? { segments: [kept(0, at), made(END)], done: ["The end mark was written where the picture broke off."] }
      : null;
  }
  if (followed.frame.marker === PROGRESSIVE) return closedProgressive(reader, followed, followed.open);
  return followed.open.scan.restart > 0 ? atRestarts(reader, followed) : spliced(reader, followed, followed.open);
}

/** A progressive picture gets finer from scan to scan: the one that broke off is left out, unless it is the first. */
function closedProgressive(reader: BlockReader, { segments, extent }: FollowedJpeg, open: OpenScan): Repaired {
  const scans = segments.filter(({ marker }) => marker === MARKER.sos);
  const last = scans[scans.length - 1] as { at: number };
  if (scans.length > 1) {
    // Tables that belong to the scan stand before it.
    let from = last.at;
    for (const { marker, at, length } of [...segments].reverse()) if (at + length === from && marker === MARKER.dht) from = at;
    return {
      segments: [kept(0, from), made(END)],
      done: [`The picture is shown as far as its ${scans.length - 1} whole passes tell; what came behind them was left out.`],
    };
  }
  const state = open.states.at(-1);
  if (!state) return { segments: [kept(0, extent.size), made(END)], done: ["The end mark was written where the picture broke off."] };
  const bits = new BitsOut();
  const from = copyBefore(reader.source, state, bits);
  fill(bits, open, total(open) - state.mcu, true);
  return {
    segments: [kept(0, from), made(bits.done()), made(END)],
    done: ["The rest of the picture was filled and the end mark written."],
  };
}

const total = ({ frame, scan }: OpenScan) => {
  const [first] = scan.parts;
  return scan.parts.length === 1 && first ? first.component.blocksWide * first.component.blocksHigh : frame.mcusWide * frame.mcusHigh;
};

/** Restart markers say where the data make sense again: only what lies between two of them is lost. */
function atRestarts(reader: BlockReader, first: FollowedJpeg): Repaired | null {
  const segments: Segment[] = [];
  const lost = new Set<number>();
  let followed = first;
  // Each round mends one damaged stretch; the picture mended so far is followed again.
  let source: ByteSource = reader.source;
  for (let round = 0; round < MOST_ROUNDS; round += 1) {
    const { open } = followed;
    if (!open) break;
    const { restart } = open.scan;
    const broken = followed.extent.verdict;
    const at = broken.verdict === "damaged" ? broken.at : source.size;
    const marks = restartMarks(source, followed.dataAt);
    const good = marks.filter((mark) => mark.at < at).length;
    // The damage may have swallowed or made up marks: the piece it lies in is counted by what was read.
    const piece = Math.min(good, Math.floor(open.mcus / restart));
    const from = piece === 0 ? followed.dataAt : (marks[piece - 1] as Mark).at + 2;
    const pieces = Math.ceil(total(open) / restart);
    const { next, until } = afterDamage(marks, at, from, piece, pieces, followed.dataAt);
    const bits = new BitsOut();
    for (let i = piece; i < until; i += 1) {
      fill(bits, open, Math.min(restart, total(open) - i * restart), true);
      if (i + 1 < pieces) bits.mark(MARKER.rst0 + (i & 7));
    }
    for (let i = piece; i < until; i += 1) lost.add(i);
    const parts: Segment[] = [kept(0, from), made(bits.done()), ...(next ? [kept(next.at + 2, source.size - next.at - 2)] : [made(END)])];
    const bytes = flatten(source, parts);
    if (!bytes) return null;
    source = new MemorySource(bytes);
    followed = followJpeg(source, true);
    segments.splice(0, segments.length, made(bytes));
    if (followed.extent.verdict.verdict === "sound") break;
  }
  const pieces = first.open ? Math.ceil(total(first.open) / first.open.scan.restart) : 0;
  return segments.length > 0
    ? {
        segments,
        done: [`${lost.size} of ${pieces} pieces between restart marks were damaged and are filled evenly; the others are as they were.`],
      }
    : null;
}

/**
 * The first mark behind the damage that can be trusted, and the number of the piece that begins there. Marks count to eight only:
 * how many whole rounds are missing gives the number of marks to the end, or else the usual length of a piece.
 */
function afterDamage(
  marks: readonly Mark[],
  at: number,
  from: number,
  piece: number,
  pieces: number,
  dataAt: number,
): { next: Mark | undefined; until: number } {
  const behind = marks.filter((mark) => mark.at >= at);
  const usual = piece > 0 ? (from - dataAt) / piece : 0;
  for (const [index, next] of behind.entries()) {
    const byCount = pieces - (behind.length - index);
    if (byCount > piece && ((byCount - 1) & 7) === next.number) return { next, until: byCount };
    if (index > 0) continue;
    const least = piece + ((next.number - piece) & 7) + 1;
    const rounds = usual > 0 ? Math.max(0, Math.round((piece + (next.at - from) / usual - least) / 8)) : 0;
    const guessed = least + 8 * rounds;
    // Where the marks behind do not add up either, the length decides.
    if (behind.length > 1 && guessed < pieces && marksFollow(behind)) return { next, until: guessed };
  }
  return { next: undefined, until: pieces };
}

/** Whether marks come in their order. */
const marksFollow = (marks: readonly Mark[]) =>
  marks.every((mark, i) => i === 0 || mark.number === (((marks[i - 1] as Mark).number + 1) & 7));

interface Mark {
  readonly at: number;
  readonly number: number;
}

function restartMarks(source: ByteSource, from: number): Mark[] {
  const bytes = new Uint8Array(Math.min(MOST_REWRITTEN, Math.max(0, source.size - from)));
  source.read(from, bytes);
  const marks: Mark[] = [];
  for (let i = bytes.indexOf(0xff); i >= 0 && i + 1 < bytes.length; i = bytes.indexOf(0xff, i + 1)) {
    const next = bytes[i + 1] as number;
    if (next >= MARKER.rst0 && next <= MARKER.rst7) marks.push({ at: from + i, number: next - MARKER.rst0 });
    else if (next === MARKER.eoi) break;
  }
  return marks;
}

function flatten(source: ByteSource, segments: readonly Segment[]): Uint8Array | null {
  const size = segments.reduce((sum, { length }) => sum + length, 0);
  if (size > MOST_REWRITTEN) return null;
  const bytes = new Uint8Array(size);
  let at = 0;
  for (const segment of segments) {
    if (segment.kind === "disk") source.read(segment.at, bytes.subarray(at, at + segment.length));
    else if (segment.kind === "held") bytes.set(segment.bytes, at);
    at += segment.length;
  }
  return bytes;
}

/** Without restart markers: the MCUs before the damage, an even colour for those that are lost, and what makes sense again behind. */
function spliced(reader: BlockReader, followed: FollowedJpeg, open: OpenScan): Repaired | null {
  const state = open.states.at(-1);
  if (!state) return null;
  const { source } = reader;
  const { verdict } = followed.extent;
  const at = verdict.verdict === "damaged" ? verdict.at : source.size;
  const all = total(open);
  const tail = takenUp(source, open, at, all - state.mcu);
  const bits = new BitsOut();
  const from = copyBefore(source, state, bits);
  const missing = all - state.mcu - (tail?.mcus ?? 0);
  fill(bits, open, missing, false);
  if (tail) copyBits(source, tail.at, tail.bit, tail.end, bits);
  const share = Math.round((100 * missing) / all);
  const done = tail
    ? [`The damaged stretch was left out: ${share} % of the picture is filled evenly, and behind it colours may be off.`]
    : [`The picture was closed where it breaks off: its last ${share} % are filled evenly.`];
  return { segments: [kept(0, from), made(bits.done()), made(END)], done };
}

interface Tail {
  readonly at: number;
  readonly bit: number;
  readonly mcus: number;
  readonly end: number;
}

/** The first place behind the damage from which the data can be read to the picture's end. */
function takenUp(source: ByteSource, open: OpenScan, from: number, most: number): Tail | null {
  const end = lastMarker(source, from);
  if (end < 0) return null;
  const limit = Math.min(end - 16, from + MOST_SKIPPED);
  for (let at = from; at < limit; at += 1)
    for (let bit = 0; bit < 8; bit += 1) {
      const start: ScanState = {
        at: at + 1,
        bits: byteAt(source, at),
        count: 8 - bit,
        mcu: 0,
        untilRestart: open.scan.restart,
        nextRestart: 0,
        predictions: open.scan.parts.map(() => 0),
        run: 0,
      };
      if (byteAt(source, at) === 0xff || byteAt(source, at - 1) === 0xff) continue;
      const found = new ScanReader(source, open.frame, open.scan, start, 1024).run();
      const mcus = found.ended ? 0 : found.mcu;
      // All codes were right up to the very end of the data.
      if (!found.ended && found.reason.includes("too early") && end - found.at <= 4 && mcus > 0 && mcus <= most)
        return { at, bit, mcus, end };
    }
  return null;
}

const byteAt = (source: ByteSource, at: number) => {
  const byte = new Uint8Array(1);
  source.read(at, byte);
  return byte[0] as number;
};

/** Where the end mark of the picture stands; -1: nowhere. */
function lastMarker(source: ByteSource, from: number): number {
  const bytes = new Uint8Array(Math.min(MOST_REWRITTEN, Math.max(0, source.size - from)));
  source.read(from, bytes);
  for (let i = bytes.indexOf(0xff); i >= 0 && i + 1 < bytes.length; i = bytes.indexOf(0xff, i + 1))
    if (bytes[i + 1] === MARKER.eoi) return from + i;
  return -1;
}

/** The header of a sound picture before data that have lost theirs. */
function borrowed(reader: BlockReader, sibling: BlockReader): Repaired | null {
  const model = followJpeg(sibling.source);
  if (!model.frame || model.dataAt === 0 || model.extent.verdict.verdict === "damaged") return null;
  const scanHeader = model.segments.find(({ marker }) => marker === MARKER.sos);
  if (!scanHeader) return null;
  const header = sibling.bytes(0, scanHeader.at).slice();
  const own = reader.find("\xff\xda", 0, Math.min(reader.size, 1 << 16));
  const done = ["The header was borrowed from a sound picture of the same camera."];
  if (own >= 0 && own + 10 < reader.size) return { segments: [made(header), kept(own, reader.size - own)], done };
  // Cut off in the middle of the data: they are taken up where they make sense, behind an even colour for what is lost.
  const opened = openModel(sibling, model);
  if (!opened || opened.frame.marker === PROGRESSIVE) return null;
  const tail = takenUp(reader.source, opened, 0, total(opened));
  if (!tail) return null;
  const bits = new BitsOut();
  const missing = total(opened) - tail.mcus;
  fill(bits, opened, missing, false);
  copyBits(reader.source, tail.at, tail.bit, tail.end, bits);
  const before = sibling.bytes(0, model.dataAt).slice();
  done.push(`The first ${Math.round((100 * missing) / total(opened))} % of the picture are lost and filled evenly; colours may be off.`);
  return { segments: [made(before), made(bits.done()), made(END)], done };
}

/** The tables of a sound picture: those its scan has when it is made to break off. */
function openModel(sibling: BlockReader, { dataAt }: FollowedJpeg): OpenScan | null {
  const cut = new MemorySource(sibling.bytes(0, Math.min(sibling.size, dataAt + 4)).slice());
  return followJpeg(cut, true).open;
}

/** Copies the consumed bits of the byte a state stands in. @returns where that byte stands: what is before it stays */
function copyBefore(source: ByteSource, { at, count }: ScanState, bits: BitsOut): number {
  let place = at;
  // Back over the bytes that were read ahead, with those stuffed behind 0xFF.
  const back = () => {
    place -= 1;
    if (byteAt(source, place) === 0 && byteAt(source, place - 1) === 0xff) place -= 1;
  };
  for (let whole = count >> 3; whole > 0; whole -= 1) back();
  const rest = count & 7;
  if (rest === 0) return place;
  back();
  bits.put(byteAt(source, place) >> rest, 8 - rest);
  return place;
}

/** Copies coded data from a bit on to `end`, stuffing undone and done again. The bits that fill the last byte come along. */
function copyBits(source: ByteSource, from: number, bit: number, end: number, bits: BitsOut): void {
  const bytes = new Uint8Array(Math.min(MOST_REWRITTEN, end - from));
  source.read(from, bytes);
  bits.put((bytes[0] as number) & ((1 << (8 - bit)) - 1), 8 - bit);
  for (let i = 1; i < bytes.length; i += 1) {
    if (bytes[i] === 0 && bytes[i - 1] === 0xff) continue;
    bits.put(bytes[i] as number, 8);
  }
}

/** The code of a value; null: the table has none. */
function codeOf(table: HuffmanTable | undefined, value: number): { code: number; length: number } | null {
  if (!table) return null;
  for (let i = 0; i < table.length; i += 1) {
    const entry = table[i] as number;
    if (entry !== 0 && (entry & 0xff) === value) return { code: i >> (16 - (entry >> 8)), length: entry >> 8 };
  }
  return null;
}

/** MCUs without any change: the colour before goes on. @param byte whether the data end on a whole byte afterwards */
function fill(bits: BitsOut, { frame, scan }: OpenScan, mcus: number, byte: boolean): void {
  const progressive = frame.marker === PROGRESSIVE;
  const parts = scan.parts.map(({ component, dc, ac }) => ({
    blocks: scan.parts.length === 1 ? 1 : component.h * component.v,
    dc: codeOf(dc, 0),
    end: progressive ? null : codeOf(ac, 0),
  }));
  for (let i = 0; i < mcus; i += 1)
    for (const { blocks, dc, end } of parts)
      for (let block = 0; block < blocks; block += 1) {
        if (dc) bits.put(dc.code, dc.length);
        if (end) bits.put(end.code, end.length);
      }
  if (byte) bits.align();
}

/** Bits put together to coded data: a zero behind each 0xFF, ones to the end of the last byte (T.81, F.1.2.3). */
class BitsOut {
  #bytes = new Uint8Array(1 << 12);
  #length = 0;
  #bits = 0;
  #count = 0;

  put(value: number, length: number): void {
    for (let i = length - 1; i >= 0; i -= 1) {
      this.#bits = (this.#bits << 1) | ((value >> i) & 1);
      this.#count += 1;
      if (this.#count < 8) continue;
      this.#byte(this.#bits);
      if (this.#bits === 0xff) this.#byte(0);
      this.#bits = 0;
      this.#count = 0;
    }
  }

  align(): void {
    if (this.#count > 0) this.put((1 << (8 - this.#count)) - 1, 8 - this.#count);
  }

  mark(marker: number): void {
    this.align();
    this.#byte(0xff);
    this.#byte(marker);
  }

  #byte(byte: number): void {
    if (this.#length === this.#bytes.length) {
      const more = new Uint8Array(this.#bytes.length * 2);
      more.set(this.#bytes);
      this.#bytes = more;
    }
    this.#bytes[this.#length] = byte;
    this.#length += 1;
  }

  done(): Uint8Array {
    this.align();
    return this.#bytes.slice(0, this.#length);
  }
}
