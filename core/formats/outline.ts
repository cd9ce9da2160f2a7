import { type ByteSource, readBytes } from "../bytes/byte-source";
import { Cursor } from "../bytes/cursor";
import { PastEnd } from "../bytes/past-end";
import { HEAD_BYTES } from "./format";
import { HOLDERS } from "./iso-media/box-names";
import { markerName } from "./jpeg/markers";
import { identify, recognise, runCheck } from "./registry";
import { traitsOf } from "./traits";
import { readZipDirectory } from "./zip/zip";

/** A part of a file's structure. Offsets and lengths are bytes of the content. */
export interface OutlinePart {
  readonly at: number;
  readonly length: number;
  /** What it is, as its standard calls it. */
  readonly name: string;
  /** How deep it lies in other parts. */
  readonly level: number;
}

const MAX_PARTS = 2000;
const MAX_LEVEL = 8;
type Walk = (source: ByteSource) => Generator<OutlinePart, void, void>;

const part = (at: number, length: number, name: string, level = 0): OutlinePart => ({ at, length, name, level });
const ascii = (bytes: Uint8Array) => String.fromCharCode(...bytes).replace(/[^\x20-\x7e\xa9]/g, "·");
const cursorAt = (source: ByteSource, at: number, length: number) => new Cursor(readBytes(source, at, length));

/** PNG: ISO/IEC 15948, clause 5. */
function* png(source: ByteSource) {
  yield part(0, 8, "signature");
  for (let at = 8; at + 12 <= source.size; ) {
    const head = cursorAt(source, at, 8);
    const name = ascii(head.slice(4, 4));
    if (!/^[A-Za-z]{4}$/.test(name)) return;
    yield part(at, 12 + head.u32be(0), name);
    at += 12 + head.u32be(0);
  }
}

/** JPEG: ITU-T T.81, annex B. */
function* jpeg(source: ByteSource) {
  for (let at = 0; at + 2 <= source.size; ) {
    const head = cursorAt(source, at, 4);
    const marker = head.u8(1);
    if (head.u8(0) !== 0xff || marker < 0xc0) return;
    const bare = marker === 0xd8 || marker === 0xd9;
    const length = bare ? 2 : 2 + head.u16be(2);
    yield part(at, length, markerName(marker));
    at += length;
    if (marker === 0xd9) return;
    if (marker !== 0xda) continue;
    const end = nextMarker(source, at);
    yield part(at, end - at, "picture data", 1);
    at = end;
  }
}

/** The next marker after coded data that is neither a stuffed 0xFF nor a restart. */
function nextMarker(source: ByteSource, from: number): number {
  const step = 1 << 16;
  for (let at = from; at < source.size; at += step) {
    const block = readBytes(source, at, Math.min(step + 1, source.size - at));
    for (let i = block.indexOf(0xff); i >= 0 && i + 1 < block.length; i = block.indexOf(0xff, i + 1)) {
      const marker = block[i + 1] as number;
      if (marker !== 0 && marker !== 0xff && (marker < 0xd0 || marker > 0xd7)) return at + i;
    }
  }
  return source.size;
}

/** GIF89a, sections 17 to 27. */
function* gif(source: ByteSource): Generator<OutlinePart, void, void> {
  const table = (flags: number) => (flags & 0x80 ? 3 * 2 ** ((flags & 7) + 1) : 0);
  const byte = (at: number) => readBytes(source, at, 1)[0] as number;
  let at = 13 + table(byte(10));
  yield part(0, at, "header and colours");
  while (at < source.size) {
    const start = at;
    const kind = byte(at);
    if (kind === 0x3b) return yield part(at, 1, "trailer");
    if (kind === 0x21) at += 2;
    else if (kind === 0x2c) at += 10 + table(byte(at + 9)) + 1;
    else return;
    for (let length = byte(at); length > 0 && at < source.size; length = byte(at)) at += 1 + length;
    at += 1;
    yield part(start, at - start, kind === 0x2c ? "image" : `extension ${byte(start + 1).toString(16)}`);
  }
}

/** RIFF: Multimedia Programming Interface, "Resource Interchange File Format". */
function* riff(source: ByteSource) {
  yield part(0, 12, `RIFF ${ascii(readBytes(source, 8, 4))}`);
  yield* riffChunks(source, 12, source.size, 1);
}

function* riffChunks(source: ByteSource, from: number, end: number, level: number): Generator<OutlinePart, void, void> {
  for (let at = from; at + 8 <= end; ) {
    const head = cursorAt(source, at, 12);
    const name = ascii(head.slice(0, 4));
    const length = head.u32(4);
    const list = name === "LIST";
    yield part(at, 8 + length, list ? `LIST ${ascii(head.slice(8, 4))}` : name, level);
    if (list && level < MAX_LEVEL) yield* riffChunks(source, at + 12, Math.min(end, at + 8 + length), level + 1);
    at += 8 + length + (length % 2);
  }
}

function* isoMedia(source: ByteSource) {
  yield* boxes(source, 0, source.size, 0);
}

function* boxes(source: ByteSource, from: number, end: number, level: number): Generator<OutlinePart, void, void> {
  for (let at = from; at + 8 <= end; ) {
    const head = cursorAt(source, at, 16);
    const name = ascii(head.slice(4, 4));
    const wide = head.u32be(0) === 1;
    const length = wide ? head.u64be(8) : head.u32be(0) || end - at;
    if (length < 8) return;
    yield part(at, length, name, level);
    const inside = HOLDERS[name];
    if (inside !== undefined && level < MAX_LEVEL)
      yield* boxes(source, at + (wide ? 16 : 8) + inside, Math.min(end, at + length), level + 1);
    at += length;
  }
}

/** ZIP: APPNOTE 4.3. */
function* zip(source: ByteSource) {
  const members = readZipDirectory(source);
  if (!Array.isArray(members)) return;
  const starts = members.map((member) => member.at).sort((a, b) => a - b);
  for (const member of [...members].sort((a, b) => a.at - b.at)) {
    const header = cursorAt(source, member.at, 30);
    yield part(member.at, 30 + header.u16(26) + header.u16(28) + member.packed, member.name || "member");
  }
  const last = members.find((member) => member.at === starts.at(-1));
  if (!last) return;
  const header = cursorAt(source, last.at, 30);
  const end = last.at + 30 + header.u16(26) + header.u16(28) + last.packed;
  yield part(end, source.size - end, "list of contents");
}

/** GZIP: RFC 1952, 2.3. */
function* gzip(source: ByteSource) {
  yield part(0, 10, "header");
  yield part(10, Math.max(0, source.size - 18), "compressed data");
  yield part(source.size - 8, 8, "CRC-32 and length");
}

const PAGE_KINDS: Readonly<Record<number, string>> = { 2: "index interior", 5: "table interior", 10: "index leaf", 13: "table leaf" };

/** SQLite database file format, 1.3 and 1.6. */
function* sqlite(source: ByteSource) {
  const raw = cursorAt(source, 16, 2).u16be(0);
  const pageSize = raw === 1 ? 65_536 : raw;
  yield part(0, 100, "database header");
  for (let at = 0; pageSize >= 512 && at < source.size; at += pageSize) {
    const kind = PAGE_KINDS[readBytes(source, at === 0 ? 100 : at, 1)[0] as number] ?? "overflow or free";
    yield part(at, pageSize, `page ${at / pageSize + 1}: ${kind}`);
  }
}

/** PDF: ISO 32000-1, 7.5; the parts are found by their words. */
function* pdf(source: ByteSource) {
  const step = 1 << 20;
  for (let at = 0; at < source.size; at += step) {
    // The overlap keeps words that cross a step.
    const text = new TextDecoder("latin1").decode(readBytes(source, at, Math.min(step + 32, source.size - at)));
    const words = /(\d{1,10}) \d{1,5} obj\b|\bstartxref\b|\bxref\b|\btrailer\b|%%EOF|%PDF-\d\.\d/g;
    for (let found = words.exec(text); found && found.index < step; found = words.exec(text))
      yield part(at + found.index, found[0].length, found[1] ? `object ${found[1]}` : found[0]);
  }
}

const WALKS: Readonly<Record<string, Walk>> = {
  png,
  jpeg,
  gif,
  pdf,
  gzip,
  sqlite,
};
/** Of families whose files are all built alike. */
const FAMILY_WALKS: Readonly<Record<string, Walk>> = { riff, "iso-media": isoMedia, zip };

/** The parts of a file in their order, up to 2000, and as far as they can be followed. */
export function outlineOf(content: ByteSource, name = ""): OutlinePart[] {
  const format = recognise(readBytes(content, 0, Math.min(HEAD_BYTES, content.size)), name);
  const walk = format && (WALKS[format.id] ?? FAMILY_WALKS[traitsOf(format).family ?? ""]);
  const parts: OutlinePart[] = [];
  if (!walk) return parts;
  try {
    for (const each of walk(content)) {
      if (each.at >= content.size) break;
      parts.push({ ...each, length: Math.max(0, Math.min(each.length, content.size - each.at)) });
      if (parts.length >= MAX_PARTS) break;
    }
  } catch (error) {
    // A damaged structure shows what stood before the damage.
    if (!(error instanceof PastEnd)) throw error;
  }
  return parts;
}

/** The parts of a file, and where it is damaged, among them in their order. */
export function damagedOutline(content: ByteSource, name = ""): OutlinePart[] {
  const parts = outlineOf(content, name);
  const format = identify(content, name);
  const verdict = format && runCheck(format, content);
  if (verdict?.verdict !== "damaged") return parts;
  const at = Math.max(0, Math.min(verdict.at, content.size - 1));
  const index = parts.findIndex((each) => each.at > at);
  parts.splice(index < 0 ? parts.length : index, 0, { at, length: 1, name: `damaged here: ${verdict.reason}`, level: 0 });
  return parts;
}
