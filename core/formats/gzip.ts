import { Gunzip } from "fflate";
import { type ByteSource, readBytes } from "../bytes/byte-source";
import { crc32 } from "../bytes/crc32";
import { Cursor } from "../bytes/cursor";
import { damaged, type Format, SOUND, type Verdict } from "./format";

const STEP = 1 << 16;
const MAX_UNPACKED = 1 << 28;

/** GZIP: RFC 1952, 2.3 (the trailer holds the CRC-32 and the length of the plain bytes). */
export const gzip: Format = {
  id: "gzip",
  kind: "archives",
  title: "GZIP archive",
  extensions: ["gz", "tgz"],
  recognise: (head) => head[0] === 0x1f && head[1] === 0x8b && head[2] === 8,
  check,
};

function check(source: ByteSource): Verdict {
  if (source.size < 18) return damaged(source.size, "the archive breaks off");
  let crc = 0;
  let plain = 0;
  let members = 0;
  try {
    const gunzip = new Gunzip((chunk) => {
      crc = crc32(chunk, crc);
      plain += chunk.length;
      if (plain > MAX_UNPACKED) throw new RangeError();
    });
    gunzip.onmember = () => {
      members += 1;
    };
    for (let at = 0; at < source.size; at += STEP) {
      gunzip.push(readBytes(source, at, Math.min(STEP, source.size - at)), at + STEP >= source.size);
    }
  } catch (error) {
    if (error instanceof RangeError) return { verdict: "cannot-tell", reason: "the archive unpacks to more than is checked" };
    return damaged(source.size, "the archive cannot be unpacked");
  }
  // With several members the trailer speaks of the last one only.
  if (members > 1) return { verdict: "cannot-tell", reason: "the archive has several parts" };
  const trailer = new Cursor(readBytes(source, source.size - 8, 8));
  if (trailer.u32(0) !== crc || trailer.u32(4) !== plain) return damaged(source.size - 8, "the archive's checksum does not match");
  return SOUND;
}
