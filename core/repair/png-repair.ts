import { crc32 } from "node:zlib";
import { zlibSync } from "fflate";
import { BlockReader } from "../bytes/block-reader";
import { InflateError, TooMuch } from "../bytes/inflate";
import { LayoutSource, layoutOf, type Segment } from "../bytes/layout";
import { pictureBytes, pictureRows } from "../formats/png";
import { unpackZlib } from "../formats/zlib";
import { BytesOut } from "./bytes-out";
import { kept, made, type Repaired } from "./repaired";

const MOST_PICTURE = 1 << 28;

/** The rows that can still be unpacked, the rest left empty; chunks before the picture as they are. */
export function repairPng(reader: BlockReader): Repaired | null {
  if (!reader.has(12, "IHDR")) return null;
  const expected = pictureBytes(reader);
  if (expected === null || expected > MOST_PICTURE) return null;
  const data: { at: number; length: number }[] = [];
  const before: Segment[] = [kept(0, 8)];
  for (let at = 8; at + 8 <= reader.size; ) {
    const type = reader.ascii(at + 4, 4);
    const length = reader.u32be(at);
    if (!/^[A-Za-z]{4}$/.test(type)) break;
    const whole = at + 12 + length <= reader.size;
    if (type === "IDAT") data.push({ at: at + 8, length: Math.min(length, reader.size - at - 8) });
    else if (data.length === 0 && whole && type !== "IEND") before.push(kept(at, 8 + length), made(chunkEnd(reader, at, length)));
    if (type === "IEND" || !whole) break;
    at += 12 + length;
  }
  const length = data.reduce((sum, run) => sum + run.length, 0);
  if (length === 0) return null;
  const packed = new LayoutSource(
    reader.source,
    layoutOf(
      data.map((run) => ({ kind: "disk", ...run })),
      length,
    ),
  );
  const plain = new Uint8Array(expected);
  let filled = 0;
  try {
    unpackZlib(new BlockReader(packed), 0, length, expected, (piece) => {
      plain.set(piece.subarray(0, Math.max(0, expected - filled)), Math.min(filled, expected));
      filled = Math.min(expected, filled + piece.length);
    });
  } catch (error) {
    if (!(error instanceof InflateError || error instanceof TooMuch)) throw error;
  }
  filled = Math.min(filled, sensible(plain, pictureRows(reader) ?? []));
  if (filled === 0) return null;
  plain.fill(0, filled);
  const share = Math.round((100 * filled) / expected);
  const idat = zlibSync(plain);
  return {
    segments: [...before, made(chunk("IDAT", idat)), made(chunk("IEND", new Uint8Array(0)))],
    done: [
      filled === expected
        ? "The picture could be unpacked to its end; its checksums were written anew."
        : `${share} % of the picture could be unpacked and was packed again; the rest is empty.`,
    ],
  };
}

/** Bytes up to the first row that begins with a kind of difference that does not exist (9.2): there nonsense began. */
function sensible(plain: Uint8Array, parts: readonly { rows: number; bytes: number }[]): number {
  let at = 0;
  for (const { rows, bytes } of parts) for (let row = 0; row < rows; row += 1, at += bytes) if ((plain[at] as number) > 4) return at;
  return at;
}

function chunkEnd(reader: BlockReader, at: number, length: number): Uint8Array {
  let crc = 0;
  for (const { bytes } of reader.blocks(at + 4, at + 8 + length)) crc = crc32(bytes, crc);
  return new BytesOut().u32be(crc).done();
}

function chunk(type: string, data: Uint8Array): Uint8Array {
  const body = new Uint8Array(4 + data.length);
  body.set(new TextEncoder().encode(type));
  body.set(data, 4);
  const all = new Uint8Array(12 + data.length);
  all.set(new BytesOut().u32be(data.length).done());
  all.set(body, 4);
  all.set(new BytesOut().u32be(crc32(body)).done(), 8 + data.length);
  return all;
}
