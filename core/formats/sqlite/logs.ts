import type { ByteSource } from "../../bytes/byte-source";
import { following } from "../following";
import { breaksAt, cannotTell, type Extent, endsAt, type Format, hasAscii, hasSignature, type Signature } from "../format";
import { isPageSize } from "./page";

/** SQLite file format: 4.1 to 4.2 (write-ahead log), 3 (rollback journal). */
const LOG_MARKS = ["\x37\x7f\x06\x82", "\x37\x7f\x06\x83"];

/** Where the bytes go on behind the last sound frame, the log may have gone on elsewhere. */
const OPEN_END = cannotTell("nothing in the log says where it ends");

/** A write-ahead log: frames with the salt of the header and a running checksum (4.2); it goes as far as both are right. */
function followLog(source: ByteSource): Extent | null {
  return following(source, "the log breaks off", (reader) => {
    const big = reader.u8(3) === 0x83;
    const pageSize = reader.u32be(8);
    if (!isPageSize(pageSize) || reader.u32be(4) !== 3_007_000) return null;
    const salt = reader.ascii(16, 8);
    let [s0, s1] = [0, 0];
    const sum = (at: number, length: number) => {
      for (let i = at; i < at + length; i += 8) {
        s0 = (s0 + (big ? reader.u32be(i) : reader.u32(i)) + s1) >>> 0;
        s1 = (s1 + (big ? reader.u32be(i + 4) : reader.u32(i + 4)) + s0) >>> 0;
      }
    };
    sum(0, 24);
    if (reader.u32be(24) !== s0 || reader.u32be(28) !== s1) return breaksAt(24, "the log's header is damaged");
    let at = 32;
    let valid = true;
    let frames = 0;
    while (at + 24 + pageSize <= source.size) {
      if (valid) {
        sum(at, 8);
        sum(at + 24, pageSize);
        valid = reader.ascii(at + 8, 8) === salt && reader.u32be(at + 16) === s0 && reader.u32be(at + 20) === s1;
      }
      // Frames of an earlier round may follow: a page number and the earlier salt, one less in its first part.
      if (!valid && (reader.u32be(at) === 0 || reader.u32be(at) > 1 << 24 || Math.abs(reader.u32be(at + 8) - reader.u32be(16)) > 64)) break;
      at += 24 + pageSize;
      frames += 1;
    }
    if (frames === 0) return breaksAt(at, "the log holds no page");
    return endsAt(at, at + 24 + pageSize > source.size ? undefined : OPEN_END);
  });
}

const JOURNAL_MARK = "\xd9\xd5\x05\xf9\x20\xa1\x63\xd7";

/** A rollback journal: a header of one sector, then pages with their number and checksum (3). */
function followJournal(source: ByteSource): Extent | null {
  return following(source, "the journal breaks off", (reader) => {
    const [stated, nonce, sector, pageSize] = [reader.u32be(8), reader.u32be(12), reader.u32be(20), reader.u32be(24)] as const;
    if (!isPageSize(pageSize) || sector < 28 || sector > 65_536) return null;
    let at = sector;
    for (let pages = 0; stated === 0xffff_ffff || pages < stated; pages += 1) {
      if (at + pageSize + 8 > source.size) return stated === 0xffff_ffff ? endsAt(at) : breaksAt(source.size, "the journal breaks off");
      let sum = nonce;
      for (let i = pageSize - 200; i > 0; i -= 200) sum = (sum + reader.u8(at + 4 + i)) >>> 0;
      if (reader.u32be(at + 4 + pageSize) !== sum) {
        if (stated === 0xffff_ffff && pages > 0) return endsAt(at, OPEN_END);
        return breaksAt(at, "the checksum of a page does not match");
      }
      at += pageSize + 8;
    }
    return endsAt(at);
  });
}

const logSignatures: readonly Signature[] = LOG_MARKS.map((mark) => ({ at: 0, mark: `${mark}\0\x2d\xe2\x18` }));

export const sqliteLogFormats: readonly Format[] = [
  {
    id: "sqlite-wal",
    kind: "application-data",
    title: "write-ahead log of an SQLite database",
    extensions: ["db-wal", "sqlite-wal"],
    signatures: logSignatures,
    recognise: (head) => hasSignature(head, logSignatures),
    follow: followLog,
  },
  {
    id: "sqlite-journal",
    kind: "application-data",
    title: "rollback journal of an SQLite database",
    extensions: ["db-journal", "sqlite-journal"],
    signatures: [{ at: 0, mark: JOURNAL_MARK }],
    recognise: (head) => hasAscii(head, 0, JOURNAL_MARK),
    follow: followJournal,
  },
];
