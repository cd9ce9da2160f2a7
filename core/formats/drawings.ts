import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { PastEnd } from "../bytes/past-end";
import { following } from "./following";
import { breaksAt, cannotTell, type Extent, endsAt, type Format, hasAscii, latin1, type Summary } from "./format";
import { followingText, withLineEnd } from "./texts/marked-up";
import { MOST_TEXT } from "./texts/text-run";
import { defined } from "./tiff-directory";

/** PostScript: the document structuring conventions 3.0 (5.1 and 6): comments give its title and its end. */
const postscript: Format = {
  id: "postscript",
  kind: "drawings",
  title: "PostScript",
  extensions: ["ps", "eps", "ai"],
  signatures: [
    { at: 0, mark: "%!PS" },
    { at: 0, mark: "\xc5\xd0\xd3\xc6" },
  ],
  loose: true,
  recognise: (head) => /^%!PS([-\s]|$)/.test(latin1(head, 5)) || hasAscii(head, 0, "\xc5\xd0\xd3\xc6"),
  follow(source) {
    const reader = new BlockReader(source);
    try {
      if (reader.has(0, "\xc5\xd0")) return withPreview(reader);
      const limit = Math.min(source.size, MOST_TEXT);
      let end = -1;
      for (let at = reader.find("%%EOF", 0, limit); at >= 0; at = reader.find("%%EOF", at + 5, limit)) {
        // The mark is a line of its own; programs in the document name it too.
        if (!/[\r\n]/.test(reader.ascii(Math.max(0, at - 1), 1))) continue;
        end = withLineEnd(reader, at + 5);
        // A document within the document has an end mark too.
        if (!/^(%%|[\w/\s[\]<>()-]{24})/.test(reader.ascii(end, Math.min(64, source.size - end)))) break;
      }
      return end < 0 ? breaksAt(limit, "the document breaks off before its end") : endsAt(end);
    } catch (error) {
      if (!(error instanceof PastEnd)) throw error;
      return breaksAt(source.size, "the document breaks off before its end");
    }
  },
  summarise(source): Summary {
    const head = new BlockReader(source).ascii(0, Math.min(source.size, 8192));
    const field = (name: string) => new RegExp(`^%%${name}: *\\(?([^()\\r\\n]{1,200})`, "m").exec(head)?.[1]?.trim() || undefined;
    const pages = Number(field("Pages"));
    return defined<Summary>({ title: field("Title"), author: field("For"), pages: pages > 0 ? pages : undefined });
  },
};

/** EPS with a preview: the format specification 3.0, 5.2: places and lengths of the text and the preview. */
function withPreview(reader: BlockReader): Extent | null {
  let end = 30;
  for (const at of [4, 12, 20]) {
    const [place, length] = [reader.u32(at), reader.u32(at + 4)];
    if (length > 0) end = Math.max(end, place + length);
  }
  return end > reader.size ? breaksAt(reader.size, "the document breaks off before its end") : endsAt(end);
}

/** DXF: the published reference, "Group codes": pairs of lines, the last of which is the value EOF. */
const dxf: Format = {
  id: "dxf",
  kind: "drawings",
  title: "drawing exchange",
  extensions: ["dxf"],
  signatures: ["  0\r\nSECTION", "  0\nSECTION", "0\r\nSECTION", "0\nSECTION", "999\r\n", "999\n"].map((mark) => ({ at: 0, mark })),
  loose: true,
  recognise: (head) => /^(\s*999\r?\n[^\n]*\n)*\s*0\r?\nSECTION\r?\n/.test(latin1(head, 512)),
  follow: (source) =>
    followingText(source, (reader, limit) => {
      for (let at = reader.find("EOF", 0, limit); at >= 0; at = reader.find("EOF", at + 3, limit))
        if (
          /\n\s*0\r?\n$/.test(reader.ascii(Math.max(0, at - 12), Math.min(12, at))) &&
          (at + 3 >= limit || /[\r\n\0]/.test(reader.ascii(at + 3, 1)))
        )
          return endsAt(withLineEnd(reader, at + 3));
      return breaksAt(limit, "the drawing breaks off before its end");
    }),
};

const VERSIONS = ["AC1012", "AC1014", "AC1015", "AC1018", "AC1021", "AC1024", "AC1027", "AC1032"];

/**
 * From the version AC1018 on (but for AC1021, which is built otherwise) the places stand in a header of 108 bytes that is mixed with
 * a row of made-up numbers: the end of the last section and the second header behind it. The same specification, 4.1; from memory.
 */
function hiddenEnd(reader: BlockReader): Extent | null {
  const plain = reader.bytes(0x80, 0x6c).slice();
  let seed = 1;
  for (let i = 0; i < plain.length; i += 1) {
    seed = (Math.imul(seed, 0x343fd) + 0x269ec3) | 0;
    plain[i] = (plain[i] as number) ^ ((seed >>> 16) & 255);
  }
  // Of a layout known from memory only, what does not fit is no proof of damage.
  if (!hasAscii(plain, 0, "AcFssFcAJMB"))
    return { size: reader.size, closed: false, verdict: cannotTell("the drawing does not tell where it ends") };
  const view = new DataView(plain.buffer);
  const end = 0x100 + Math.max(Number(view.getBigUint64(0x2c, true)), Number(view.getBigUint64(0x34, true)));
  return { size: Math.min(end, reader.size), closed: false, verdict: cannotTell("the drawing's parts are not followed") };
}

/**
 * DWG: the open design specification 5.4.1, chapters 3 and 4: up to the version AC1015 the sections' places and lengths stand at
 * the beginning (the map of the objects is the last but for a short header copy); later ones hide theirs.
 */
function followDwg(source: ByteSource): Extent | null {
  return following(source, "the drawing breaks off before its end", (reader) => {
    const version = reader.ascii(0, 6);
    if (version !== "AC1021" && version > "AC1015") return hiddenEnd(reader);
    if (version > "AC1015")
      return { size: source.size, closed: false, verdict: cannotTell("this version of the drawing does not tell where it ends") };
    const count = reader.u32(21);
    if (count < 3 || count > 6) return null;
    let end = 0;
    for (let i = 0; i < count; i += 1) {
      const record = 25 + i * 9;
      end = Math.max(end, reader.u32(record + 1) + reader.u32(record + 5));
    }
    return end > source.size
      ? breaksAt(source.size, "the drawing breaks off before its end")
      : { size: end, closed: false, verdict: cannotTell("the drawing's parts are not followed") };
  });
}

const dwg: Format = {
  id: "dwg",
  kind: "drawings",
  title: "drawing",
  extensions: ["dwg"],
  signatures: VERSIONS.map((mark) => ({ at: 0, mark })),
  loose: true,
  recognise: (head) => hasAscii(head, 0, "AC10"),
  follow: followDwg,
};

export const drawingFormats: readonly Format[] = [postscript, dxf, dwg];
