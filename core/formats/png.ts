import { type ByteSource, readBytes } from "../bytes/byte-source";
import { crc32 } from "../bytes/crc32";
import { Cursor } from "../bytes/cursor";
import { damaged, type Format, hasAscii, SOUND, type Verdict } from "./format";

const STEP = 1 << 18;

/** PNG: ISO/IEC 15948, clause 5 (signature, chunks: length, type, data, CRC). */
export const png: Format = {
  id: "png",
  kind: "pictures",
  title: "PNG picture",
  extensions: ["png"],
  recognise: (head) => hasAscii(head, 0, "\x89PNG\r\n\x1a\n"),
  check,
};

function check(source: ByteSource): Verdict {
  let at = 8;
  for (let chunks = 0; at + 12 <= source.size; chunks += 1) {
    const head = new Cursor(readBytes(source, at, 8));
    const length = head.u32be(0);
    const type = String.fromCharCode(...head.slice(4, 4));
    if (!/^[A-Za-z]{4}$/.test(type)) return damaged(at, "no chunk begins where the next one should");
    if (chunks === 0 && type !== "IHDR") return damaged(at, "the picture does not begin with its header");
    if (at + 12 + length > source.size) return damaged(at, `the chunk ${type} runs past the end of the file`);
    let crc = crc32(head.slice(4, 4));
    for (let done = 0; done < length; done += STEP) crc = crc32(readBytes(source, at + 8 + done, Math.min(STEP, length - done)), crc);
    if (new Cursor(readBytes(source, at + 8 + length, 4)).u32be(0) !== crc)
      return damaged(at, `the checksum of the chunk ${type} does not match`);
    if (type === "IEND") return SOUND;
    at += 12 + length;
  }
  return damaged(Math.min(at, source.size), "the picture breaks off before its end");
}
