import { crc32 } from "node:zlib";
import { deflateSync } from "fflate";
import type { BlockReader } from "../bytes/block-reader";
import type { Segment } from "../bytes/layout";
import { CENTRAL, LOCAL, METHOD } from "../formats/zip/layout";
import { checkMember, directoryFromEnd, findDescriptor, localMember, quoted, type ZipMember } from "../formats/zip/members";
import { BytesOut } from "./bytes-out";
import { kept, made, type Repaired } from "./repaired";

const MOST_MEMBERS = 100_000;
const MOST_UNPACKED = 1 << 30;
/** Bytes of a broken member that are kept in memory. */
const MOST_PARTIAL = 1 << 26;

/** A member as it goes into the rebuilt archive. */
interface Saved {
  readonly name: string;
  readonly method: number;
  readonly crc: number;
  readonly packed: number;
  readonly plain: number;
  readonly data: Segment;
}

/**
 * Rebuilds an archive from its members: those whose checksum is right as they are; of texts that break off as much as there is,
 * closed properly. The list of contents is written anew.
 */
export function repairZip(reader: BlockReader): Repaired | null {
  const saved = new Map<string, Saved>();
  const partial: string[] = [];
  const lost: string[] = [];
  for (const member of membersOf(reader)) {
    if (saved.has(member.name)) continue;
    const found = save(reader, member);
    if (!found) {
      lost.push(member.name);
      continue;
    }
    if (found.partial) partial.push(member.name);
    saved.set(member.name, found.saved);
  }
  if (saved.size === 0) return null;
  const missing = lost.filter((name) => !saved.has(name));
  const done = [`${saved.size} of its parts were put into an archive with a new list of contents.`];
  if (partial.length > 0) done.push(`${partial.map(quoted).join(", ")} broke off: what was left of it was kept and closed.`);
  if (missing.length > 0) done.push(`${missing.map(quoted).join(", ")} could not be saved.`);
  return { segments: written([...saved.values()]), done };
}

type Located = ZipMember & { readonly dataAt: number; readonly sized: boolean };

/** Members wherever their headers stand, with what the list of contents knows of those whose headers are gone. */
function* membersOf(reader: BlockReader): Generator<Located, void, void> {
  const directory = directoryFromEnd(reader);
  const listed = "members" in directory ? new Map(directory.members.map((member) => [member.at, member])) : new Map<number, ZipMember>();
  const seen = new Set<number>();
  let count = 0;
  for (let at = reader.find(LOCAL.mark, 0); at >= 0 && count < MOST_MEMBERS; at = reader.find(LOCAL.mark, at + 1), count += 1) {
    const member = localMember(reader, at);
    if (!member || member.name === "" || member.dataAt > reader.size) continue;
    seen.add(at);
    const known = listed.get(at);
    if (known && known.name === member.name) yield { ...member, ...known, dataAt: member.dataAt, sized: true };
    else if (member.sized || member.method === METHOD.deflated) yield member;
    else {
      const described = findDescriptor(reader, member.dataAt);
      if (described) yield { ...member, ...described, sized: true };
    }
  }
  for (const member of listed.values()) if (!seen.has(member.at)) yield* withoutHeader(reader, member);
}

/** Behind a header that is gone come the name's length and whatever extra field there was: tried until the checksum is right. */
function* withoutHeader(reader: BlockReader, member: ZipMember): Generator<Located, void, void> {
  const name = new TextEncoder().encode(member.name).length;
  for (let extra = 0; extra <= 128; extra += 1) {
    const located = { ...member, dataAt: member.at + LOCAL.size + name + extra, sized: true };
    if (located.dataAt + located.packed > reader.size) return;
    if (checkMember(reader, located, true, MOST_UNPACKED).verdict.verdict === "sound") {
      yield located;
      return;
    }
  }
  yield { ...member, dataAt: member.at + LOCAL.size + name, sized: true };
}

function save(reader: BlockReader, member: Located): { saved: Saved; partial: boolean } | null {
  const pieces: Uint8Array[] = [];
  let length = 0;
  const take = (plain: Uint8Array) => {
    if (length < MOST_PARTIAL) pieces.push(plain.slice());
    length += plain.length;
  };
  const text = /\.(xml|rels|txt|csv|html?|json|svg|opf|ncx|xhtml|css)$/i.test(member.name);
  const end = checkMember(reader, member, member.sized, MOST_UNPACKED, text ? take : undefined);
  const { name, method } = member;
  if (end.verdict.verdict === "sound" || (end.verdict.verdict === "cannot-tell" && member.sized))
    return {
      saved: { name, method, crc: end.crc, packed: end.packed, plain: end.plain, data: kept(member.dataAt, end.packed) },
      partial: false,
    };
  // Of a text that cannot be unpacked to its end, what there is up to the last whole mark is worth having.
  if (!text || length < 64 || end.verdict.verdict !== "damaged" || end.verdict.reason.includes("checksum")) return null;
  const plain = closedText(name, joined(pieces));
  if (!plain) return null;
  const packed = deflateSync(plain);
  return {
    saved: { name, method: METHOD.deflated, crc: crc32(plain), packed: packed.length, plain: plain.length, data: made(packed) },
    partial: true,
  };
}

function joined(pieces: readonly Uint8Array[]): Uint8Array {
  const all = new Uint8Array(pieces.reduce((sum, { length }) => sum + length, 0));
  let at = 0;
  for (const piece of pieces) {
    all.set(piece, at);
    at += piece.length;
  }
  return all;
}

/** XML that breaks off, closed: cut behind its last whole element, with what is open ended in its order. */
export function closedText(name: string, bytes: Uint8Array): Uint8Array | null {
  const text = new TextDecoder().decode(bytes).replace(/\uFFFD+$/, "");
  if (!/\.(xml|rels|svg|opf|ncx|xhtml)$/i.test(name)) return new TextEncoder().encode(text);
  const open: string[] = [];
  let end = 0;
  for (const { 0: tag, 1: slash, 2: element, 3: self, index } of text.matchAll(
    /<(\/?)([A-Za-z_][\w:.-]*)(?:[^<>"']|"[^"]*"|'[^']*')*?(\/?)>/g,
  )) {
    if (slash) {
      if (open.at(-1) !== element) return null;
      open.pop();
    } else if (!self) open.push(element as string);
    end = index + tag.length;
  }
  if (end === 0) return null;
  return new TextEncoder().encode(
    text.slice(0, end) +
      open
        .reverse()
        .map((element) => `</${element}>`)
        .join(""),
  );
}

/** The archive: each member behind a header, the list of contents, the end. */
function written(members: readonly Saved[]): Segment[] {
  const segments: Segment[] = [];
  const list = new BytesOut();
  let at = 0;
  for (const { name, method, crc, packed, plain, data } of members) {
    const letters = new TextEncoder().encode(name);
    const fields = (out: BytesOut) =>
      out.u16(20).u16(0x800).u16(method).u16(0).u16(0x21).u32(crc).u32(packed).u32(plain).u16(letters.length).u16(0);
    const header = fields(new BytesOut().text(LOCAL.mark)).bytes(letters).done();
    segments.push(made(header), data);
    fields(list.text(CENTRAL.mark).u16(20)).u16(0).u16(0).u16(0).u32(0).u32(at).bytes(letters);
    at += header.length + packed;
  }
  const directory = list.done();
  segments.push(made(directory));
  segments.push(
    made(new BytesOut().text("PK\x05\x06").u32(0).u16(members.length).u16(members.length).u32(directory.length).u32(at).u16(0).done()),
  );
  return segments;
}
