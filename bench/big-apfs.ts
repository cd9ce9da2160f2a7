import { closeSync, openSync, readSync, writeSync } from "node:fs";

/**
 * Fills an empty APFS container, as mkapfs formats it (case-sensitive), with very many files: the tree of its files and the object map by which
 * the nodes of that are found, as the "Apple File System Reference" describes them. The space manager is left as it is: nothing that lists files
 * asks it about live ones. A general archiver opens what comes out.
 */
const BLOCK = 4096;
const PER_FOLDER = 500;
const FIRST_ID = 16n;
const XID = 1n;
const TIME = 1_700_000_000_000_000_000n;
const ROOT_INFO = 40;
const HEAD = 56;
const TYPE = { inode: 3n, dataStream: 6n, extent: 8n, entry: 9n } as const;
const KIND = { volume: 0x4253_5041, folder: 4, file: 8 } as const;
const OBJECT = { tree: 2, node: 3, physical: 0x4000_0000, files: 0x0e, map: 0x0b } as const;

interface TreeRecord {
  readonly key: Buffer;
  readonly value: Buffer;
}

/** A tree: whether its nodes are found by the object map or by their blocks, and the lengths of its keys and values where all are the same. */
interface TreeKind {
  readonly type: number;
  readonly subtype: number;
  readonly flags: number;
  readonly fixed: { readonly key: number; readonly value: number } | null;
}
const FILES: TreeKind = { type: 0, subtype: OBJECT.files, flags: 0, fixed: null };
const MAP: TreeKind = { type: OBJECT.physical, subtype: OBJECT.map, flags: 4, fixed: { key: 16, value: 16 } };

/** The checksum of an object (`o_cksum`): Fletcher's, over 32-bit words. */
function seal(block: Buffer): Buffer {
  const modulus = 0xffff_ffff;
  let [first, second] = [0, 0];
  for (let at = 8; at < block.length; at += 4) {
    first = (first + block.readUInt32LE(at)) % modulus;
    second = (second + first) % modulus;
  }
  const low = modulus - ((first + second) % modulus);
  block.writeUInt32LE(low, 0);
  block.writeUInt32LE(modulus - ((first + low) % modulus), 4);
  return block;
}

const CASTAGNOLI = Uint32Array.from({ length: 256 }, (_, byte) => {
  let value = byte;
  for (let bit = 0; bit < 8; bit += 1) value = value & 1 ? (value >>> 1) ^ 0x82f6_3b78 : value >>> 1;
  return value >>> 0;
});
/** The hash of a name (`j_drec_hashed_key_t`): CRC-32C over its characters of 32 bits each, 22 bits of it; the names here are ASCII. */
function hashOf(name: string): number {
  let crc = 0xffff_ffff;
  for (const letter of name)
    for (const byte of [letter.charCodeAt(0), 0, 0, 0]) crc = (CASTAGNOLI[(crc ^ byte) & 0xff] as number) ^ (crc >>> 8);
  return crc & 0x3f_ffff;
}

function keyOf(id: bigint, type: bigint, more = 0): Buffer {
  const key = Buffer.alloc(8 + more);
  key.writeBigUInt64LE((type << 60n) | id);
  return key;
}

function entry(parent: bigint, name: string, id: bigint, kind: number): TreeRecord {
  const key = keyOf(parent, TYPE.entry, 4 + name.length + 1);
  key.writeUInt32LE(((hashOf(name) << 10) | (name.length + 1)) >>> 0, 8);
  key.write(name, 12);
  const value = Buffer.alloc(18);
  value.writeBigUInt64LE(id, 0);
  value.writeBigUInt64LE(TIME, 8);
  value.writeUInt16LE(kind, 16);
  return { key, value };
}

const padded = (length: number) => Math.ceil(length / 8) * 8;

/** @param size null: a folder */
function inode(id: bigint, parent: bigint, name: string, links: number, size: number | null): TreeRecord {
  const fields: { type: number; flags: number; data: Buffer }[] = [{ type: 4, flags: 2, data: Buffer.from(`${name}\0`) }];
  if (size !== null) {
    const stream = Buffer.alloc(40);
    stream.writeBigUInt64LE(BigInt(size), 0);
    stream.writeBigUInt64LE(BigInt(BLOCK), 8);
    fields.push({ type: 8, flags: 0x20, data: stream });
  }
  const value = Buffer.alloc(92 + 4 + fields.length * 4 + fields.reduce((sum, { data }) => sum + padded(data.length), 0));
  value.writeBigUInt64LE(parent, 0);
  value.writeBigUInt64LE(id, 8);
  for (const at of [16, 24, 32, 40]) value.writeBigUInt64LE(TIME, at);
  value.writeBigUInt64LE(0x8000n, 48);
  value.writeInt32LE(links, 56);
  value.writeUInt16LE(size === null ? 0o40755 : 0o100644, 80);
  value.writeUInt16LE(fields.length, 92);
  value.writeUInt16LE(
    fields.reduce((sum, { data }) => sum + padded(data.length), 0),
    94,
  );
  let at = 96 + fields.length * 4;
  fields.forEach(({ type, flags, data }, index) => {
    value.writeUInt8(type, 96 + index * 4);
    value.writeUInt8(flags, 97 + index * 4);
    value.writeUInt16LE(data.length, 98 + index * 4);
    data.copy(value, at);
    at += padded(data.length);
  });
  return { key: keyOf(id, TYPE.inode), value };
}

function dataStream(id: bigint): TreeRecord {
  const value = Buffer.alloc(4);
  value.writeUInt32LE(1);
  return { key: keyOf(id, TYPE.dataStream), value };
}

function extent(id: bigint, block: bigint): TreeRecord {
  const value = Buffer.alloc(24);
  value.writeBigUInt64LE(BigInt(BLOCK), 0);
  value.writeBigUInt64LE(block, 8);
  return { key: keyOf(id, TYPE.extent, 8), value };
}

/** All records of the tree of files in the order of their keys. Contents stand one block after the other from `firstBlock` on. */
function* fileRecords(count: number, firstBlock: bigint): Generator<TreeRecord, void, void> {
  const folders = Math.ceil(count / PER_FOLDER);
  const folderId = (index: number) => FIRST_ID + BigInt(index);
  const fileId = (index: number) => FIRST_ID + BigInt(folders + index);
  const folderName = (index: number) => `folder ${index}`;
  const fileName = (index: number) => `file ${index} of the night log.txt`;
  const byKey = (records: TreeRecord[]) =>
    records.sort((a, b) => a.key.readUInt32LE(8) - b.key.readUInt32LE(8) || Buffer.compare(a.key, b.key));
  yield* byKey([entry(1n, "root", 2n, KIND.folder), entry(1n, "private-dir", 3n, KIND.folder)]);
  yield inode(2n, 1n, "root", folders, null);
  yield* byKey(Array.from({ length: folders }, (_, index) => entry(2n, folderName(index), folderId(index), KIND.folder)));
  yield inode(3n, 1n, "private-dir", 0, null);
  for (let folder = 0; folder < folders; folder += 1) {
    const inside = Array.from({ length: Math.min(PER_FOLDER, count - folder * PER_FOLDER) }, (_, index) => folder * PER_FOLDER + index);
    yield inode(folderId(folder), 2n, folderName(folder), inside.length, null);
    yield* byKey(inside.map((index) => entry(folderId(folder), fileName(index), fileId(index), KIND.file)));
  }
  for (let index = 0; index < count; index += 1) {
    yield inode(fileId(index), folderId(Math.floor(index / PER_FOLDER)), fileName(index), 1, 1 + (index % 4000));
    yield dataStream(fileId(index));
    yield extent(fileId(index), firstBlock + BigInt(index));
  }
}

/** Writes a node (`btree_node_phys_t`) with its records. @param info of the tree, for its root alone */
function nodeOf(kind: TreeKind, oid: bigint, level: number, records: readonly TreeRecord[], info: Buffer | null): Buffer {
  const node = Buffer.alloc(BLOCK);
  node.writeBigUInt64LE(oid, 8);
  node.writeBigUInt64LE(XID, 16);
  node.writeUInt32LE(kind.type + (info ? OBJECT.tree : OBJECT.node), 24);
  node.writeUInt32LE(kind.subtype, 28);
  node.writeUInt16LE((info ? 1 : 0) + (level === 0 ? 2 : 0) + kind.flags, 32);
  node.writeUInt16LE(level, 34);
  node.writeUInt32LE(records.length, 36);
  const entrySize = kind.fixed ? 4 : 8;
  const keysAt = HEAD + records.length * entrySize;
  const valuesAt = BLOCK - (info ? ROOT_INFO : 0);
  let [keys, values] = [0, 0];
  records.forEach(({ key, value }, index) => {
    key.copy(node, keysAt + keys);
    values += value.length;
    value.copy(node, valuesAt - values);
    const places = kind.fixed ? [keys, values] : [keys, key.length, values, value.length];
    places.forEach((place, field) => {
      node.writeUInt16LE(place, HEAD + index * entrySize + field * 2);
    });
    keys += key.length;
  });
  node.writeUInt16LE(records.length * entrySize, 42);
  node.writeUInt16LE(keys, 44);
  node.writeUInt16LE(valuesAt - values - keysAt - keys, 46);
  for (const at of [48, 52]) node.writeUInt16LE(0xffff, at);
  info?.copy(node, valuesAt);
  return seal(node);
}

/** Where the nodes of a tree go: the next identifier there is, and the node under its own. */
interface Place {
  next(): bigint;
  put(oid: bigint, node: Buffer): void;
}

/** Writes a whole tree, level by level. @param root the identifier of its root */
function writeTree(kind: TreeKind, root: bigint, leaves: Iterable<TreeRecord>, place: Place): void {
  let level: Iterable<TreeRecord> = leaves;
  let [nodes, counted, longestKey, longestValue] = [0n, 0n, 0, 0];
  const entrySize = kind.fixed ? 4 : 8;
  for (let height = 0; ; height += 1) {
    const parents: TreeRecord[] = [];
    let batch: TreeRecord[] = [];
    let bytes = HEAD + ROOT_INFO;
    const flush = (isRoot: boolean) => {
      nodes += 1n;
      const oid = isRoot ? root : place.next();
      const child = Buffer.alloc(8);
      child.writeBigUInt64LE(oid);
      parents.push({ key: (batch[0] as TreeRecord).key, value: child });
      place.put(oid, nodeOf(kind, oid, height, batch, isRoot ? infoOf() : null));
      batch = [];
      bytes = HEAD + ROOT_INFO;
    };
    const infoOf = () => {
      const info = Buffer.alloc(ROOT_INFO);
      [kind.type ? 0x10 : 0, BLOCK, kind.fixed?.key ?? 0, kind.fixed?.value ?? 0, longestKey, longestValue].forEach((word, index) => {
        info.writeUInt32LE(word, index * 4);
      });
      info.writeBigUInt64LE(counted, 24);
      info.writeBigUInt64LE(nodes, 32);
      return info;
    };
    for (const record of level) {
      const length = record.key.length + record.value.length + entrySize;
      if (bytes + length > BLOCK) flush(false);
      batch.push(record);
      bytes += length;
      if (height > 0) continue;
      counted += 1n;
      longestKey = Math.max(longestKey, record.key.length);
      longestValue = Math.max(longestValue, record.value.length);
    }
    flush(parents.length === 0);
    if (parents.length === 1) return;
    level = parents;
  }
}

/** Fills the only volume of a container. @throws Error when there is no room for so many files */
export function fillApfs(image: string, bytes: number, count: number): void {
  const file = openSync(image, "r+");
  const blocks = Math.floor(bytes / BLOCK);
  const read = (block: number) => {
    const data = Buffer.alloc(BLOCK);
    readSync(file, data, 0, BLOCK, block * BLOCK);
    return data;
  };
  const write = (block: number | bigint, data: Buffer) => writeSync(file, data, 0, BLOCK, Number(block) * BLOCK);
  try {
    let volumeAt = 0;
    while (volumeAt < blocks && read(volumeAt).readUInt32LE(32) !== KIND.volume) volumeAt += 1;
    const volume = read(volumeAt);
    const rootOid = volume.readBigUInt64LE(136);
    const mapRoot = read(Number(volume.readBigUInt64LE(128))).readBigUInt64LE(48);
    // Behind everything the formatter wrote: the nodes, and behind those the contents.
    let free = BigInt(Math.floor(blocks / 3));
    const contents = free + BigInt(Math.ceil(count / 6) + 1024);
    if (contents + BigInt(count) > BigInt(blocks)) throw new Error("The image is too small for so many files.");
    const places: { oid: bigint; block: bigint }[] = [];
    let oid = 1_000_000n;
    writeTree(FILES, rootOid, fileRecords(count, contents), {
      next: () => oid++,
      put: (id, node) => {
        places.push({ oid: id, block: free });
        write(free, node);
        free += 1n;
      },
    });
    const mapped = places
      .sort((a, b) => (a.oid < b.oid ? -1 : 1))
      .map(({ oid: id, block }): TreeRecord => {
        const [key, value] = [Buffer.alloc(16), Buffer.alloc(16)];
        key.writeBigUInt64LE(id, 0);
        key.writeBigUInt64LE(XID, 8);
        value.writeUInt32LE(BLOCK, 4);
        value.writeBigUInt64LE(block, 8);
        return { key, value };
      });
    writeTree(MAP, mapRoot, mapped, { next: () => free++, put: (id, node) => write(id, node) });
    if (free > contents) throw new Error("The image is too small for so many files.");
    const folders = Math.ceil(count / PER_FOLDER);
    volume.writeBigUInt64LE(FIRST_ID + BigInt(folders + count), 176);
    volume.writeBigUInt64LE(BigInt(count), 184);
    volume.writeBigUInt64LE(BigInt(folders), 192);
    write(volumeAt, seal(volume));
  } finally {
    closeSync(file);
  }
}
