import type { BlockReader } from "../bytes/block-reader";
import { InflateError, TooMuch } from "../bytes/inflate";
import type { Segment } from "../bytes/layout";
import { unpackZlib } from "../formats/zlib";
import { BytesOut } from "./bytes-out";
import { kept, made, type Repaired } from "./repaired";

const MOST_OBJECTS = 2_000_000;
const MOST_STREAM = 1 << 26;

interface Place {
  readonly at: number;
  readonly generation: number;
}
/** An object inside a stream of objects (ISO 32000-1, 7.5.7): which stream, and which one in it. */
interface Packed {
  readonly stream: number;
  readonly index: number;
}

/** Finds the objects of a document by their beginnings, and writes the table of contents anew (7.5.4 and 7.5.8). */
export function repairPdf(reader: BlockReader): Repaired | null {
  const places = objectsOf(reader);
  if (places.size === 0) return null;
  const packed = new Map<number, Packed>();
  let root = rootInTrailers(reader, places);
  for (const [number, { at }] of places) {
    const head = textAt(reader, at, 2048);
    const body = head.slice(0, head.indexOf("endobj") + 1 || head.length);
    if (/\/Type\s*\/Catalog\b/.test(body)) root ??= number;
    if (!/\/Type\s*\/ObjStm\b/.test(body)) continue;
    for (const { inside, index, text } of packedIn(reader, at, body)) {
      if (!places.has(inside)) packed.set(inside, { stream: number, index });
      if (/\/Type\s*\/Catalog\b/.test(text)) root ??= inside;
    }
  }
  if (root === null || (!places.has(root) && !packed.has(root))) return null;
  const { end, closing } = lastObjectEnd(reader, places);
  const info = infoOf(reader, places);
  const table =
    packed.size > 0 ? streamTable(places, packed, root, info, end + closing.length) : plainTable(places, root, info, end + closing.length);
  const segments: Segment[] = [kept(0, end), made(new TextEncoder().encode(closing)), made(table)];
  return {
    segments,
    done: [`${places.size + packed.size} objects were found by their beginnings, and the table of contents written anew.`],
  };
}

function textAt(reader: BlockReader, at: number, length: number): string {
  return new TextDecoder("latin1").decode(reader.bytes(at, Math.min(length, reader.size - at)));
}

/** The last object of each number wins, as in a document with updates. Those that break off are left out. */
function objectsOf(reader: BlockReader): Map<number, Place> {
  const places = new Map<number, Place>();
  for (let at = reader.find(" obj", 0), seen = 0; at >= 0 && seen < MOST_OBJECTS; at = reader.find(" obj", at + 4), seen += 1) {
    const from = Math.max(0, at - 20);
    const before = /(?:^|[\s>])(\d{1,10})\s+(\d{1,5})$/.exec(textAt(reader, from, at - from));
    if (!before) continue;
    const place = from + before.index + (/^[\s>]/.test(before[0]) ? 1 : 0);
    // The very last one may have lost its end mark: what is in it is there all the same when its stream ends.
    if (reader.find("endobj", at + 4) < 0 && reader.find("endstream", at + 4) < 0) continue;
    places.set(Number(before[1]), { at: place, generation: Number(before[2]) });
  }
  return places;
}

function rootInTrailers(reader: BlockReader, places: ReadonlyMap<number, Place>): number | null {
  let root: number | null = null;
  for (let at = reader.find("/Root", 0); at >= 0; at = reader.find("/Root", at + 5)) {
    const found = /^\/Root\s+(\d+)\s+\d+\s+R/.exec(textAt(reader, at, 40));
    if (found && places.has(Number(found[1]))) root = Number(found[1]);
  }
  return root;
}

function infoOf(reader: BlockReader, places: ReadonlyMap<number, Place>): number | null {
  for (const [number, { at }] of places) {
    const head = textAt(reader, at, 1024);
    const body = head.slice(0, head.indexOf("endobj") + 1 || head.length);
    if (/\/(Producer|CreationDate)\b/.test(body) && !/\/Type\b/.test(body)) return number;
  }
  return null;
}

function* packedIn(reader: BlockReader, at: number, body: string): Generator<{ inside: number; index: number; text: string }, void, void> {
  const mark = /\bstream(\r\n|\n|\r)/.exec(body);
  const count = Number(/\/N\s+(\d+)/.exec(body)?.[1] ?? 0);
  const first = Number(/\/First\s+(\d+)/.exec(body)?.[1] ?? 0);
  if (!mark || !/\/FlateDecode/.test(body)) return;
  let text = "";
  const decoder = new TextDecoder("latin1");
  try {
    unpackZlib(reader, at + mark.index + mark[0].length, reader.size, MOST_STREAM, (plain) => {
      text += decoder.decode(plain, { stream: true });
    });
  } catch (error) {
    if (!(error instanceof InflateError || error instanceof TooMuch)) throw error;
  }
  const numbers = text.slice(0, first).trim().split(/\s+/).map(Number);
  for (let index = 0; index < count; index += 1) {
    const [inside, from] = [numbers[index * 2], numbers[index * 2 + 1]];
    if (inside === undefined || from === undefined || Number.isNaN(inside + from) || first + from >= text.length) return;
    yield { inside, index, text: text.slice(first + from, first + (numbers[index * 2 + 3] ?? text.length)) };
  }
}

/** Where the last object ends, and what must be added for it to do so. */
function lastObjectEnd(reader: BlockReader, places: ReadonlyMap<number, Place>): { end: number; closing: string } {
  const last = Math.max(...[...places.values()].map(({ at }) => at));
  const end = reader.find("endobj", last);
  return end >= 0 ? { end: end + 6, closing: "" } : { end: reader.find("endstream", last) + 9, closing: "\nendobj" };
}

const trailerFields = (size: number, root: number, info: number | null) =>
  `/Size ${size} /Root ${root} 0 R${info === null ? "" : ` /Info ${info} 0 R`}`;

function plainTable(places: ReadonlyMap<number, Place>, root: number, info: number | null, end: number): Uint8Array {
  const size = Math.max(...places.keys()) + 1;
  const lines = [`\nxref\n0 ${size}\n0000000000 65535 f \n`];
  for (let number = 1; number < size; number += 1) {
    const place = places.get(number);
    lines.push(place ? `${String(place.at).padStart(10, "0")} ${String(place.generation).padStart(5, "0")} n \n` : "0000000000 65535 f \n");
  }
  lines.push(`trailer\n<< ${trailerFields(size, root, info)} >>\nstartxref\n${end + 1}\n%%EOF\n`);
  return new TextEncoder().encode(lines.join(""));
}

/** With packed objects the table is a stream: a kind, and the place or the stream and the number in it. */
function streamTable(
  places: ReadonlyMap<number, Place>,
  packed: ReadonlyMap<number, Packed>,
  root: number,
  info: number | null,
  end: number,
): Uint8Array {
  const own = Math.max(...places.keys(), ...packed.keys()) + 1;
  const rows = new BytesOut();
  for (let number = 0; number <= own; number += 1) {
    const place = number === own ? { at: end + 1, generation: 0 } : places.get(number);
    const inside = packed.get(number);
    if (place) rows.u8(1).u32be(place.at).u16be(place.generation);
    else if (inside) rows.u8(2).u32be(inside.stream).u16be(inside.index);
    else rows.u8(0).u32be(0).u16be(65_535);
  }
  const data = rows.done();
  const head = `\n${own} 0 obj\n<< /Type /XRef /W [1 4 2] ${trailerFields(own + 1, root, info)} /Length ${data.length} >>\nstream\n`;
  return new BytesOut()
    .text(head)
    .bytes(data)
    .text(`\nendstream\nendobj\nstartxref\n${end + 1}\n%%EOF\n`)
    .done();
}
