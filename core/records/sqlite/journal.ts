import { BlockReader } from "../../bytes/block-reader";
import type { ByteSource } from "../../bytes/byte-source";
import { isPageSize } from "../../formats/sqlite/page";

export interface Journal {
  /** Whether the database has to be rolled back with it: its transaction never came to an end. */
  readonly hot: boolean;
  readonly pageSize: number;
  /** What pages were before the transaction: number, and where their bytes begin in the journal. */
  readonly images: readonly { readonly page: number; readonly at: number }[];
  /** Pages of the database before the transaction; null where the header is gone. */
  readonly pages: number | null;
}

const MARK = "\xd9\xd5\x05\xf9\x20\xa1\x63\xd7";
/** Images that are looked at. */
const MOST_IMAGES = 1 << 22;

/** The sum of every 200th byte of a page, from its end (SQLite file format 3: the checksum of a page record without its nonce). */
function sumOf(reader: BlockReader, at: number, pageSize: number): number {
  let sum = 0;
  for (let i = pageSize - 200; i > 0; i -= 200) sum = (sum + reader.u8(at + i)) >>> 0;
  return sum;
}

/**
 * Reads a rollback journal (SQLite file format 3). One whose header is whole is *hot*; one whose header was zeroed or cut off is finished, and
 * its pages are evidence only. One that names a journal over several databases is taken as hot: that other journal is not looked for.
 * @param pageSize of the database, for a journal whose header is gone
 * @returns null when there is nothing in it
 */
export function readJournal(source: ByteSource, pageSize: number): Journal | null {
  if (source.size < 512) return null;
  const reader = new BlockReader(source);
  if (!reader.has(0, MARK)) return readFinished(reader, pageSize);
  const own = reader.u32be(24);
  const pages = reader.u32be(16);
  const sector = reader.u32be(20);
  if (!isPageSize(own) || sector < 32 || sector > 65_536 || (sector & (sector - 1)) !== 0) return readFinished(reader, pageSize);
  const images: { page: number; at: number }[] = [];
  let broken = false;
  // Several headers may follow each other, each at a sector (3: the journal is synchronised more than once).
  for (let at = 0; !broken && at + sector <= source.size && reader.has(at, MARK); at = Math.ceil(at / sector) * sector) {
    const stated = reader.u32be(at + 8);
    const nonce = reader.u32be(at + 12);
    at += sector;
    const room = Math.floor((source.size - at) / (own + 8));
    const count = stated === 0xffff_ffff ? room : Math.min(stated, room);
    for (let i = 0; i < count && images.length < MOST_IMAGES; i += 1, at += own + 8) {
      const page = reader.u32be(at);
      if (page === 0 || (nonce + sumOf(reader, at + 4, own)) >>> 0 !== reader.u32be(at + 4 + own)) {
        broken = true;
        break;
      }
      images.push({ page, at: at + 4 });
    }
  }
  return { hot: true, pageSize: own, images, pages };
}

/**
 * A journal without its header. Records stand where the sums of their pages all differ from the stated ones by the same number, the nonce; behind the
 * last transaction's those of earlier, longer ones may stand, with another nonce.
 */
function readFinished(reader: BlockReader, pageSize: number): Journal | null {
  const record = pageSize + 8;
  const nonceAt = (at: number) =>
    at + record > reader.size || reader.u32be(at) === 0 ? null : (reader.u32be(at + 4 + pageSize) - sumOf(reader, at + 4, pageSize)) >>> 0;
  for (let sector = 512; sector <= 4096; sector *= 2) {
    const images: { page: number; at: number }[] = [];
    let nonce: number | null = null;
    for (let at = sector; at + record <= reader.size && images.length < MOST_IMAGES; ) {
      const own = nonceAt(at);
      // By chance a single page fits any nonce: another one counts when two in a row have it.
      if (own !== null && (own === nonce || own === nonceAt(at + record))) {
        images.push({ page: reader.u32be(at), at: at + 4 });
        nonce = own;
        at += record;
        continue;
      }
      // Another header may stand here; the records behind it begin at the next sector.
      const next = Math.ceil(at / sector) * sector + sector;
      if (images.length === 0 || nonceAt(next) === null || (nonceAt(next) !== nonceAt(next + record) && !reader.has(next - sector, MARK)))
        break;
      nonce = nonceAt(next);
      at = next;
    }
    if (images.length > 1) return { hot: false, pageSize, images, pages: null };
  }
  return null;
}
