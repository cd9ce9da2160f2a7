import { type Coding, type DiskRun, EMPTY_LAYOUT, type Layout, type Segment } from "./layout";

/**
 * Layouts as compact bytes, to be stored with each copy: a version byte, the size, then for each segment a tag and
 * its fields as variable-length numbers (7 bits a byte, low first, as in LEB128).
 */
const VERSION = 1;
const TAG = { disk: 0, held: 1, hole: 2, lost: 3, lznt1: 4, xpress: 5, lzx: 6 } as const;
/** Added to the tag of coded bytes that were kept in a record: they follow, and how many. */
const HELD = 16;
const CODINGS = new Map<number, Coding>([
  [TAG.lznt1, "lznt1"],
  [TAG.xpress, "xpress"],
  [TAG.lzx, "lzx"],
]);

export function encodeLayout(layout: Layout): Uint8Array {
  const out: number[] = [VERSION];
  const number = (value: number) => {
    let left = value;
    for (; left >= 0x80; left = Math.floor(left / 128)) out.push((left % 128) | 0x80);
    out.push(left);
  };
  number(layout.size);
  for (const segment of layout.segments) {
    out.push(segment.kind === "coded" ? TAG[segment.coding] + (segment.held ? HELD : 0) : TAG[segment.kind]);
    number(segment.length);
    if (segment.kind === "disk") number(segment.at);
    else if (segment.kind === "held") {
      number(segment.at);
      for (const byte of segment.bytes) out.push(byte);
    } else if (segment.kind === "coded") {
      number(segment.from.length);
      for (const run of segment.from) {
        number(run.at);
        number(run.length);
      }
      if (segment.held) {
        number(segment.held.length);
        for (const byte of segment.held) out.push(byte);
      }
    }
  }
  return Uint8Array.from(out);
}

/** @throws RangeError when the bytes are not an encoded layout */
export function decodeLayout(bytes: Uint8Array): Layout {
  if (bytes.length === 0) return EMPTY_LAYOUT;
  if (bytes[0] !== VERSION) throw new RangeError(`layout version ${bytes[0]} is not known`);
  let at = 1;
  const number = () => {
    let value = 0;
    for (let shift = 1; ; shift *= 128) {
      const byte = bytes[at];
      if (byte === undefined) throw new RangeError("the layout breaks off");
      at += 1;
      value += (byte & 0x7f) * shift;
      if (byte < 0x80) return value;
    }
  };
  const size = number();
  const segments: Segment[] = [];
  while (at < bytes.length) {
    const tag = bytes[at];
    at += 1;
    const length = number();
    if (tag === TAG.disk) segments.push({ kind: "disk", at: number(), length });
    else if (tag === TAG.held) {
      segments.push({ kind: "held", at: number(), length, bytes: bytes.slice(at, at + length) });
      at += length;
    } else if (tag === TAG.hole) segments.push({ kind: "hole", length });
    else if (tag === TAG.lost) segments.push({ kind: "lost", length });
    else if (CODINGS.has((tag as number) % HELD)) {
      const coding = CODINGS.get((tag as number) % HELD) as Coding;
      const from: DiskRun[] = [];
      for (let left = number(); left > 0; left -= 1) from.push({ at: number(), length: number() });
      if ((tag as number) < HELD) segments.push({ kind: "coded", coding, length, from });
      else {
        const count = number();
        segments.push({ kind: "coded", coding, length, from, held: bytes.slice(at, at + count) });
        at += count;
      }
    } else throw new RangeError(`segment tag ${tag} is not known`);
  }
  return { size, segments };
}
