const SECTOR = 512;
const BLOCK = 1 << 19;
const TABLE_AT = 3 * SECTOR;

/** The one's complement of the sum of all bytes, written into the field that is left out of the sum. */
function seal(bytes: Buffer, fieldAt: number): Buffer {
  bytes.writeUInt32BE(0, fieldAt);
  bytes.writeUInt32BE(~bytes.reduce((sum, byte) => sum + byte, 0) >>> 0, fieldAt);
  return bytes;
}

/**
 * Writes a disk as a dynamic VHD in blocks of 512 KiB ("Virtual Hard Disk Image Format Specification", version 1.0: copy of the footer,
 * dynamic disk header, block allocation table, blocks with their sector bitmaps, footer). Blocks of zeros are left out.
 */
export function dynamicVhd(disk: Uint8Array): Buffer {
  const blocks = Math.ceil(disk.length / BLOCK);
  const footer = Buffer.alloc(SECTOR);
  footer.write("conectix", 0, "latin1");
  footer.writeUInt32BE(2, 8);
  footer.writeUInt32BE(0x10000, 12);
  footer.writeBigUInt64BE(BigInt(SECTOR), 16);
  footer.writeBigUInt64BE(BigInt(disk.length), 40);
  footer.writeBigUInt64BE(BigInt(disk.length), 48);
  footer.writeUInt32BE(3, 60);
  footer.write("tests-make-this!", 68, "latin1");
  seal(footer, 64);
  const header = Buffer.alloc(2 * SECTOR);
  header.write("cxsparse", 0, "latin1");
  header.fill(0xff, 8, 16);
  header.writeBigUInt64BE(BigInt(TABLE_AT), 16);
  header.writeUInt32BE(0x10000, 24);
  header.writeUInt32BE(blocks, 28);
  header.writeUInt32BE(BLOCK, 32);
  seal(header, 36);
  const table = Buffer.alloc(Math.ceil((blocks * 4) / SECTOR) * SECTOR, 0xff);
  const parts = [footer, header, table];
  let sector = (TABLE_AT + table.length) / SECTOR;
  for (let block = 0; block < blocks; block += 1) {
    const bytes = Buffer.alloc(BLOCK);
    bytes.set(disk.subarray(block * BLOCK, (block + 1) * BLOCK));
    if (bytes.every((byte) => byte === 0)) continue;
    table.writeUInt32BE(sector, block * 4);
    // Its bitmap: 1024 sectors, all of them there.
    parts.push(Buffer.alloc(SECTOR).fill(0xff, 0, BLOCK / SECTOR / 8), bytes);
    sector += 1 + BLOCK / SECTOR;
  }
  return Buffer.concat([...parts, footer]);
}
