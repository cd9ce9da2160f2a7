import { CODECS, type Coding, mostCoded } from "./codecs";
import { type DiskRun, EMPTY_LAYOUT, type Layout, type Segment } from "./layout";
import { NumberReader, pushNumber } from "./leb128";
import { Malformed } from "./malformed";

/**
 * Layouts as compact bytes, to be stored with each copy: a version byte, the size, then for each segment a tag and
 * its fields as variable-length numbers (7 bits a byte, low first, as in LEB128).
 */
const VERSION = 1;
const TAG = { disk: 0, held: 1, hole: 2, lost: 3 } as const;
/** Added to the tag of a stretch whose clusters belong to another file now. */
const FOREIGN = 32;
/** Added to the tag of coded bytes that were kept in a record: they follow, and how many. */
const HELD = 16;
/** Of bytes of a file that is compressed as a whole. */
const PACKED = 64;
const CODINGS = new Map((Object.keys(CODECS) as Coding[]).map((coding) => [CODECS[coding].tag as number, coding]));

export function encodeLayout(layout: Layout): Uint8Array {
  const out: number[] = [VERSION];
  const number = (value: number) => pushNumber(out, value);
  number(layout.size);
  for (const segment of layout.segments) {
    const foreign = (segment.kind === "disk" || segment.kind === "coded") && segment.foreign ? FOREIGN : 0;
    out.push(foreign + tagOf(segment));
    number(segment.length);
    if (segment.kind === "disk") number(segment.at);
    else if (segment.kind === "packed") {
      number(segment.at);
      pushRuns(out, segment.from);
    } else if (segment.kind === "held") {
      number(segment.at);
      for (const byte of segment.bytes) out.push(byte);
    } else if (segment.kind === "coded") {
      pushRuns(out, segment.from);
      if (segment.held) {
        number(segment.held.length);
        for (const byte of segment.held) out.push(byte);
      }
    }
  }
  return Uint8Array.from(out);
}

function tagOf(segment: Segment): number {
  if (segment.kind === "packed") return PACKED;
  return segment.kind === "coded" ? CODECS[segment.coding].tag + (segment.held ? HELD : 0) : TAG[segment.kind];
}

function pushRuns(out: number[], runs: readonly DiskRun[]): void {
  pushNumber(out, runs.length);
  for (const { at, length } of runs) {
    pushNumber(out, at);
    pushNumber(out, length);
  }
}

/** @throws Malformed when the bytes are not an encoded layout */
export function decodeLayout(bytes: Uint8Array): Layout {
  if (bytes.length === 0) return EMPTY_LAYOUT;
  if (bytes[0] !== VERSION) throw new Malformed(`layout version ${bytes[0]} is not known`);
  const reader = new NumberReader(bytes, 1);
  const number = () => reader.next();
  const taken = (count: number) => {
    const part = bytes.slice(reader.at, reader.at + count);
    reader.at += count;
    return part;
  };
  const runs = () => {
    const found: DiskRun[] = [];
    for (let left = number(); left > 0; left -= 1) found.push({ at: number(), length: number() });
    return found;
  };
  const size = number();
  const segments: Segment[] = [];
  while (!reader.ended) {
    const stored = bytes[reader.at] as number;
    if (stored > PACKED) throw new Malformed(`segment tag ${stored} is not known`);
    const tag = stored % FOREIGN;
    const foreign = stored >= FOREIGN ? ({ foreign: true } as const) : {};
    reader.at += 1;
    const length = number();
    if (stored === PACKED) segments.push({ kind: "packed", length, at: number(), from: runs() });
    else if (tag === TAG.disk) segments.push({ kind: "disk", at: number(), length, ...foreign });
    else if (tag === TAG.held) segments.push({ kind: "held", at: number(), length, bytes: taken(length) });
    else if (tag === TAG.hole) segments.push({ kind: "hole", length });
    else if (tag === TAG.lost) segments.push({ kind: "lost", length });
    else if (CODINGS.has(tag % HELD)) {
      const coding = CODINGS.get(tag % HELD) as Coding;
      if (length > mostCoded(coding)) throw new Malformed(`a coded piece of ${length} bytes is larger than any`);
      const from = runs();
      if (tag < HELD) segments.push({ kind: "coded", coding, length, from, ...foreign });
      else segments.push({ kind: "coded", coding, length, from, held: taken(number()), ...foreign });
    } else throw new Malformed(`segment tag ${stored} is not known`);
  }
  return { size, segments };
}
