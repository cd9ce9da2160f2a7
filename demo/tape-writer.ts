/** What the writer is given of a file. Dates are local ones, as if they were UTC. */
export interface TapeFile {
  readonly folder: readonly string[];
  readonly name: string;
  readonly content: Buffer;
  readonly modified: Date;
}
export interface TapeSetContents {
  readonly name: string;
  readonly date: Date;
  readonly files: readonly TapeFile[];
}

/** Bytes of a logical block, and those blocks begin at. */
const BLOCK = 1024;
const VENDOR = 0x4c41;

/**
 * Writes a medium of the tape format (Tape Format Specification, revision 1.00a; layout from memory): its first block, then set after set with
 * one volume each, every file with a checksum of its content.
 */
export function writeTape(medium: string, sets: readonly TapeSetContents[]): Buffer {
  const out: Buffer[] = [];
  let at = 0;
  const put = (bytes: Buffer) => {
    out.push(bytes);
    at += bytes.length;
  };
  let base = 0;
  let control = 0;
  /** A block with its texts, then streams, then what fills the logical block. */
  const block = (
    type: string,
    fixed: Buffer,
    texts: readonly (readonly [number, Buffer])[] = [],
    streams: readonly Buffer[] = [],
    size = 0,
  ) => {
    let end = fixed.length;
    const placed = texts.map(([field, text]) => {
      const place = end;
      end += text.length;
      return { field, text, place };
    });
    const head = Buffer.alloc(Math.ceil(end / 4) * 4);
    fixed.copy(head);
    for (const { field, text, place } of placed) {
      head.writeUInt16LE(text.length, field);
      head.writeUInt16LE(place, field + 2);
      text.copy(head, place);
    }
    head.write(type, 0, "latin1");
    head.writeUInt16LE(head.length, 8);
    head.writeUInt8(14, 10);
    head.writeUInt8(1, 11);
    head.writeBigUInt64LE(BigInt(size), 12);
    head.writeBigUInt64LE(BigInt(base < 0 ? 0 : (at - base) / BLOCK), 20);
    head.writeUInt32LE(control, 36);
    control += 1;
    head.writeUInt8(2, 48);
    head.writeUInt16LE(words(head.subarray(0, 50)), 50);
    const parts: Buffer[] = [head];
    let length = head.length;
    for (const each of streams) {
      parts.push(each);
      length += each.length;
      const fill = (4 - (length % 4)) % 4;
      parts.push(Buffer.alloc(fill));
      length += fill;
    }
    const left = (BLOCK - ((length + 22) % BLOCK)) % BLOCK;
    parts.push(stream("SPAD", Buffer.alloc(left)));
    put(Buffer.concat(parts));
  };
  base = -1;
  const first = Buffer.alloc(94);
  first.writeUInt32LE(0x20_11_03_05, 52);
  first.writeUInt16LE(1, 60);
  first.writeUInt16LE(BLOCK, 84);
  first.writeUInt16LE(VENDOR, 86);
  date(sets[0]?.date ?? new Date(0)).copy(first, 88);
  first.writeUInt8(1, 93);
  block("TAPE", first, [[68, text(medium)]]);
  sets.forEach(({ name, date: written, files }, index) => {
    base = at;
    control = 0;
    const set = Buffer.alloc(98);
    set.writeUInt16LE(VENDOR, 60);
    set.writeUInt16LE(index + 1, 62);
    date(written).copy(set, 88);
    set.writeInt8(4, 95);
    block("SSET", set, [
      [64, text(name)],
      [76, text("Tomas Brandl")],
    ]);
    const volume = Buffer.alloc(76);
    date(written).copy(volume, 68);
    block("VOLB", volume, [
      [56, text("D:")],
      [60, text("CLUBHOUSE")],
      [64, text("CLUBHOUSE-PC")],
    ]);
    const folders = new Map<string, number>();
    const enter = (path: readonly string[], modified: Date): number => {
      const key = path.join("/");
      const known = folders.get(key);
      if (known !== undefined) return known;
      if (path.length > 0) enter(path.slice(0, -1), modified);
      const id = folders.size + 1;
      folders.set(key, id);
      const folder = Buffer.alloc(84);
      date(modified).copy(folder, 56);
      date(modified).copy(folder, 61);
      folder.writeUInt32LE(id, 76);
      block("DIRB", folder, [[80, text(path.length === 0 ? "\0" : path.map((part) => `${part}\0`).join(""))]]);
      return id;
    };
    let present = "";
    files.forEach(({ folder, name: own, content, modified }, number) => {
      if (number === 0) enter([], modified);
      const key = folder.join("/");
      // A folder's block comes before its files.
      if (key !== present) enter(folder, modified);
      present = key;
      const file = Buffer.alloc(88);
      date(modified).copy(file, 56);
      date(modified).copy(file, 61);
      file.writeUInt32LE(folders.get(key) ?? 1, 76);
      file.writeUInt32LE(number + 1, 80);
      const padded = Buffer.concat([content, Buffer.alloc((4 - (content.length % 4)) % 4)]);
      let sum = 0;
      for (let word = 0; word < padded.length; word += 4) sum ^= padded.readInt32LE(word);
      const check = Buffer.alloc(4);
      check.writeInt32LE(sum, 0);
      block("FILE", file, [[84, text(own)]], [stream("STAN", content), stream("CSUM", check)], content.length);
    });
    block("ESPB", Buffer.alloc(52));
    const last = Buffer.alloc(88);
    last.writeUInt16LE(1, 76);
    last.writeUInt16LE(index + 1, 78);
    date(written).copy(last, 80);
    block("ESET", last);
  });
  return Buffer.concat(out);
}

const text = (value: string): Buffer => Buffer.from(value, "utf16le");

function words(bytes: Buffer): number {
  let sum = 0;
  for (let at = 0; at + 1 < bytes.length; at += 2) sum ^= bytes.readUInt16LE(at);
  return sum;
}

function stream(id: string, content: Buffer): Buffer {
  const head = Buffer.alloc(22);
  head.write(id, 0, "latin1");
  head.writeBigUInt64LE(BigInt(content.length), 8);
  head.writeUInt16LE(words(head.subarray(0, 20)), 20);
  return Buffer.concat([head, content]);
}

/** Year in 14 bits, month 4, day 5, hour 5, minute 6, second 6. */
function date(of: Date): Buffer {
  let value = BigInt(of.getUTCFullYear());
  for (const [part, bits] of [
    [of.getUTCMonth() + 1, 4],
    [of.getUTCDate(), 5],
    [of.getUTCHours(), 5],
    [of.getUTCMinutes(), 6],
    [of.getUTCSeconds(), 6],
  ] as const)
    value = (value << BigInt(bits)) | BigInt(part);
  const bytes = Buffer.alloc(8);
  bytes.writeBigUInt64BE(value);
  return bytes.subarray(3);
}
