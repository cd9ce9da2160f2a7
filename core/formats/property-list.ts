import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { PastEnd } from "../bytes/past-end";
import { breaksAt, type Extent, endsAt, type Format, hasAscii } from "./format";

const MOST = 1 << 24;

/**
 * Binary property lists: the published source of the open-source foundation library ("CFBinaryPList", comment on the layout):
 * objects, a table of their places, and 32 bytes at the end that say where the table stands.
 */
function follow(source: ByteSource): Extent | null {
  const reader = new BlockReader(source);
  const limit = Math.min(source.size, MOST);
  try {
    // Six bytes of nothing begin the end; the places in it must lead back to where it stands.
    for (let at = reader.find("\0\0\0\0\0", 8, limit); at >= 0 && at + 32 <= limit; at = reader.find("\0\0\0\0\0", at + 1, limit)) {
      const [offsetBytes, referenceBytes] = [reader.u8(at + 6), reader.u8(at + 7)];
      if (![1, 2, 3, 4, 8].includes(offsetBytes) || ![1, 2, 4, 8].includes(referenceBytes)) continue;
      const [objects, top, table] = [reader.u64be(at + 8), reader.u64be(at + 16), reader.u64be(at + 24)];
      if (objects === 0 || top >= objects || table + objects * offsetBytes !== at) continue;
      for (let i = 0; i < Math.min(objects, 100_000); i += 1) {
        let place = 0;
        for (let byte = 0; byte < offsetBytes; byte += 1) place = place * 256 + reader.u8(table + i * offsetBytes + byte);
        if (place < 8 || place >= table) return breaksAt(table + i * offsetBytes, "the table of the list's parts is damaged");
      }
      return endsAt(at + 32);
    }
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
  }
  return breaksAt(limit, "the list breaks off before its end");
}

export const propertyList: Format = {
  id: "plist",
  kind: "application-data",
  title: "property list",
  extensions: ["plist"],
  signatures: [{ at: 0, mark: "bplist00" }],
  loose: true,
  recognise: (head) => hasAscii(head, 0, "bplist0"),
  follow,
};
