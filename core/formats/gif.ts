import { type ByteSource, readBytes } from "../bytes/byte-source";
import { damaged, type Format, hasAscii, SOUND, type Verdict } from "./format";

/** GIF: the published GIF89a specification, sections 17 to 27. */
export const gif: Format = {
  id: "gif",
  kind: "pictures",
  title: "GIF picture",
  extensions: ["gif"],
  recognise: (head) => hasAscii(head, 0, "GIF87a") || hasAscii(head, 0, "GIF89a"),
  check,
};

const BLOCK = { extension: 0x21, image: 0x2c, trailer: 0x3b } as const;
const colourTable = (flags: number) => (flags & 0x80 ? 3 * 2 ** ((flags & 7) + 1) : 0);
const byteAt = (source: ByteSource, at: number) => readBytes(source, at, 1)[0] as number;

function check(source: ByteSource): Verdict {
  if (source.size < 14) return damaged(source.size, "the picture breaks off in its header");
  let at = 13 + colourTable(byteAt(source, 10));
  let images = 0;
  while (at < source.size) {
    const block = byteAt(source, at);
    if (block === BLOCK.trailer) return images > 0 ? SOUND : damaged(at, "the file holds no picture");
    if (block === BLOCK.extension) at += 2;
    else if (block === BLOCK.image) {
      images += 1;
      at += 10 + colourTable(byteAt(source, at + 9)) + 1;
    } else return damaged(at, "no known block begins where the next one should");
    for (let length = byteAt(source, at); length > 0; length = byteAt(source, at)) {
      at += 1 + length;
      if (at >= source.size) return damaged(source.size, "the picture breaks off before its end");
    }
    at += 1;
  }
  return damaged(source.size, "the picture breaks off before its end");
}
