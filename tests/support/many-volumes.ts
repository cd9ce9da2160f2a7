import { fixture } from "./volume-truth";

const SECTOR = 512;
/** Sectors before each logical volume: its own boot record, and room up to where volumes usually begin. */
const LEAD = 63;

/** A disk with one extended partition and `count` logical FAT12 volumes in it, each the lab's own. */
export function manyVolumes(count: number): Uint8Array {
  const volume = fixture("fat12.img.gz");
  const each = LEAD + Math.ceil(volume.length / SECTOR);
  const disk = new Uint8Array((LEAD + count * each) * SECTOR);
  const entry = (record: number, index: number, type: number, start: number, length: number) => {
    const view = new DataView(disk.buffer, record * SECTOR);
    view.setUint8(446 + 16 * index + 4, type);
    view.setUint32(446 + 16 * index + 8, start, true);
    view.setUint32(446 + 16 * index + 12, length, true);
    view.setUint16(510, 0xaa55, true);
  };
  entry(0, 0, 0x05, LEAD, count * each);
  for (let i = 0; i < count; i += 1) {
    const record = LEAD + i * each;
    entry(record, 0, 0x01, LEAD, each - LEAD);
    if (i + 1 < count) entry(record, 1, 0x05, (i + 1) * each, each);
    disk.set(volume, (record + LEAD) * SECTOR);
  }
  return disk;
}
