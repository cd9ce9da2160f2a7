import { closeSync, openSync, writeSync } from "node:fs";

/**
 * Lays out an HFS Plus volume with very many files as Technical Note 1150 describes it: one leaf record after the other, in the order of
 * their keys. A general archiver opens what comes out. Volumes that the kernel's driver filled are made by `driver-volumes.sh`, which takes too long
 * for a million files.
 */
const BLOCK = 4096;
const NODE = 8192;
const PER_FOLDER = 500;
const FIRST_ID = 16;
const MAC_TIME = 3_700_000_000;
const KIND = { leaf: 0xff, index: 0, header: 1 } as const;

interface LeafRecord {
  readonly key: Buffer;
  readonly data: Buffer;
}

function keyOf(parent: number, name: string): Buffer {
  const key = Buffer.alloc(8 + name.length * 2);
  key.writeUInt16BE(key.length - 2, 0);
  key.writeUInt32BE(parent, 2);
  key.writeUInt16BE(name.length, 6);
  for (let index = 0; index < name.length; index += 1) key.writeUInt16BE(name.charCodeAt(index), 8 + index * 2);
  return key;
}

function writeDates(data: Buffer): void {
  for (const at of [12, 16, 20, 24]) data.writeUInt32BE(MAC_TIME, at);
}

function folderData(id: number, valence: number): Buffer {
  const data = Buffer.alloc(88);
  data.writeUInt16BE(1, 0);
  data.writeUInt32BE(valence, 4);
  data.writeUInt32BE(id, 8);
  writeDates(data);
  data.writeUInt16BE(0o40755, 42);
  return data;
}

function fileData(id: number, block: number, size: number): Buffer {
  const data = Buffer.alloc(248);
  data.writeUInt16BE(2, 0);
  data.writeUInt16BE(2, 2);
  data.writeUInt32BE(id, 8);
  writeDates(data);
  data.writeUInt16BE(0o100644, 42);
  writeFork(data, 88, size, [[block, 1]]);
  return data;
}

function threadData(type: 3 | 4, parent: number, name: string): Buffer {
  const named = keyOf(parent, name);
  const data = Buffer.alloc(4 + named.length - 2);
  data.writeUInt16BE(type, 0);
  named.copy(data, 4, 2);
  return data;
}

function writeFork(into: Buffer, at: number, size: number, extents: readonly [number, number][]): void {
  into.writeBigUInt64BE(BigInt(size), at);
  into.writeUInt32BE(
    extents.reduce((sum, [, count]) => sum + count, 0),
    at + 12,
  );
  extents.forEach(([start, count], index) => {
    into.writeUInt32BE(start, at + 16 + index * 8);
    into.writeUInt32BE(count, at + 20 + index * 8);
  });
}

/** All records of the catalog in the order of their keys. Contents stand one block after the other from `firstBlock` on. */
function* catalogRecords(count: number, firstBlock: number): Generator<LeafRecord, void, void> {
  const folders = Math.ceil(count / PER_FOLDER);
  const folderName = (index: number) => `folder ${index}`;
  const fileName = (index: number) => `file ${index} of the night log.txt`;
  const sorted = (names: readonly { name: string; index: number }[]) => [...names].sort((a, b) => (a.name < b.name ? -1 : 1));
  const fileId = (index: number) => FIRST_ID + folders + index;
  const inFolder = (folder: number) =>
    Array.from({ length: Math.min(PER_FOLDER, count - folder * PER_FOLDER) }, (_, index) => folder * PER_FOLDER + index);
  yield { key: keyOf(1, "Big"), data: folderData(2, folders) };
  yield { key: keyOf(2, ""), data: threadData(3, 1, "Big") };
  for (const { name, index } of sorted(Array.from({ length: folders }, (_, folder) => ({ name: folderName(folder), index: folder }))))
    yield { key: keyOf(2, name), data: folderData(FIRST_ID + index, inFolder(index).length) };
  for (let folder = 0; folder < folders; folder += 1) {
    yield { key: keyOf(FIRST_ID + folder, ""), data: threadData(3, 2, folderName(folder)) };
    for (const { name, index } of sorted(inFolder(folder).map((each) => ({ name: fileName(each), index: each }))))
      yield { key: keyOf(FIRST_ID + folder, name), data: fileData(fileId(index), firstBlock + index, 1 + (index % 4000)) };
  }
  for (let index = 0; index < count; index += 1)
    yield { key: keyOf(fileId(index), ""), data: threadData(4, FIRST_ID + Math.floor(index / PER_FOLDER), fileName(index)) };
}

function nodeOf(kind: number, height: number, records: readonly Buffer[], next: number, previous: number): Buffer {
  const node = Buffer.alloc(NODE);
  node.writeUInt32BE(next, 0);
  node.writeUInt32BE(previous, 4);
  node.writeUInt8(kind, 8);
  node.writeUInt8(height, 9);
  node.writeUInt16BE(records.length, 10);
  let at = 14;
  records.forEach((record, index) => {
    record.copy(node, at);
    node.writeUInt16BE(at, NODE - 2 * (index + 1));
    at += record.length;
  });
  node.writeUInt16BE(at, NODE - 2 * (records.length + 1));
  return node;
}

/** Fills nodes one after the other. @returns of each its number and first key */
function writeLevel(
  kind: number,
  height: number,
  records: Iterable<Buffer>,
  keyOfRecord: (record: Buffer) => Buffer,
  first: number,
  write: (number: number, node: Buffer) => void,
) {
  const nodes: { number: number; key: Buffer }[] = [];
  let batch: Buffer[] = [];
  let bytes = 16;
  const flush = (last: boolean) => {
    const number = first + nodes.length;
    nodes.push({ number, key: keyOfRecord(batch[0] as Buffer) });
    write(number, nodeOf(kind, height, batch, last ? 0 : number + 1, nodes.length > 1 ? number - 1 : 0));
    batch = [];
    bytes = 16;
  };
  for (const record of records) {
    if (bytes + record.length + 2 > NODE) flush(false);
    batch.push(record);
    bytes += record.length + 2;
  }
  flush(true);
  return nodes;
}

const leadingKey = (record: Buffer) => record.subarray(0, record.readUInt16BE(0) + 2);

function headerNode(depth: number, root: number, leafRecords: number, lastLeaf: number, nodes: number, used: number): Buffer {
  const head = Buffer.alloc(106);
  head.writeUInt16BE(depth, 0);
  head.writeUInt32BE(root, 2);
  head.writeUInt32BE(leafRecords, 6);
  head.writeUInt32BE(leafRecords ? 1 : 0, 10);
  head.writeUInt32BE(lastLeaf, 14);
  head.writeUInt16BE(NODE, 18);
  head.writeUInt16BE(516, 20);
  head.writeUInt32BE(nodes, 22);
  head.writeUInt32BE(nodes - used, 26);
  head.writeUInt32BE(6, 38);
  const map = Buffer.alloc(NODE - 256);
  for (let index = 0; index < used; index += 1) map[index >> 3] = (map[index >> 3] as number) | (0x80 >> (index & 7));
  return nodeOf(KIND.header, 0, [head, Buffer.alloc(128), map], 0, 0);
}

/** Writes the volume into a file of zeros of `bytes` bytes. */
export function layOutHfsPlus(image: string, bytes: number, count: number): void {
  const file = openSync(image, "r+");
  const put = (data: Buffer, at: number) => writeSync(file, data, 0, data.length, at);
  try {
    const blocks = Math.floor(bytes / BLOCK);
    const mapBlocks = Math.ceil(blocks / 8 / BLOCK);
    const extentsAt = 1 + mapBlocks;
    const catalogAt = extentsAt + 2;
    // A record with its thread takes less than 500 bytes; the index is a small part of that.
    const catalogNodes = Math.ceil((count * 520) / NODE) + 64;
    const catalogBlocks = catalogNodes * 2;
    const dataAt = catalogAt + catalogBlocks;
    if (dataAt + count + 1 > blocks) throw new Error("The image is too small for so many files.");
    const write = (number: number, node: Buffer) => put(node, catalogAt * BLOCK + number * NODE);
    let leafRecords = 0;
    function* leaves() {
      for (const { key, data } of catalogRecords(count, dataAt)) {
        leafRecords += 1;
        yield Buffer.concat([key, data]);
      }
    }
    let level = writeLevel(KIND.leaf, 1, leaves(), leadingKey, 1, write);
    const lastLeaf = level.at(-1)?.number ?? 1;
    let [height, next] = [1, 1 + level.length];
    while (level.length > 1) {
      height += 1;
      const children = level.map(({ number, key }) => {
        const child = Buffer.alloc(4);
        child.writeUInt32BE(number, 0);
        return Buffer.concat([key, child]);
      });
      level = writeLevel(KIND.index, height, children, leadingKey, next, write);
      next += level.length;
    }
    write(0, headerNode(height, level[0]?.number ?? 1, leafRecords, lastLeaf, catalogNodes, next));
    put(headerNode(0, 0, 0, 0, 1, 1), extentsAt * BLOCK);
    const used = Buffer.alloc(mapBlocks * BLOCK);
    for (let block = 0; block < dataAt + count; block += 1) used[block >> 3] = (used[block >> 3] as number) | (0x80 >> (block & 7));
    used[(blocks - 1) >> 3] = (used[(blocks - 1) >> 3] as number) | (0x80 >> ((blocks - 1) & 7));
    put(used, BLOCK);
    const header = Buffer.alloc(512);
    header.writeUInt16BE(0x482b, 0);
    header.writeUInt16BE(4, 2);
    header.writeUInt32BE(0x100, 4);
    header.write("10.0", 8);
    for (const at of [16, 20, 28]) header.writeUInt32BE(MAC_TIME, at);
    const folders = Math.ceil(count / PER_FOLDER);
    header.writeUInt32BE(count, 32);
    header.writeUInt32BE(folders, 36);
    header.writeUInt32BE(BLOCK, 40);
    header.writeUInt32BE(blocks, 44);
    header.writeUInt32BE(blocks - dataAt - count - 1, 48);
    header.writeUInt32BE(FIRST_ID + folders + count, 64);
    writeFork(header, 112, mapBlocks * BLOCK, [[1, mapBlocks]]);
    writeFork(header, 192, NODE, [[extentsAt, 2]]);
    writeFork(header, 272, catalogBlocks * BLOCK, [[catalogAt, catalogBlocks]]);
    put(header, 1024);
    put(header, blocks * BLOCK - 1024);
  } finally {
    closeSync(file);
  }
}
