import { type ByteSource, readBytes } from "../bytes/byte-source";
import { Cursor } from "../bytes/cursor";
import { damaged, type Format, hasAscii, SOUND, type Verdict } from "./format";

const MAX_BOXES = 100_000;

/** ISO base media files: ISO/IEC 14496-12, 4.2 (boxes: size, type, 64-bit size when the size is 1). */
function check(source: ByteSource): Verdict {
  let at = 0;
  let boxes = 0;
  const seen = new Set<string>();
  while (at + 8 <= source.size && boxes < MAX_BOXES) {
    const head = new Cursor(readBytes(source, at, 16));
    const type = String.fromCharCode(...head.slice(4, 4));
    let length = head.u32be(0);
    if (length === 1) length = head.u64be(8);
    else if (length === 0) length = source.size - at;
    if (!/^[\x20-\x7e\xa9]{4}$/.test(type) || length < 8) return damaged(at, "no box begins where the next one should");
    if (at + length > source.size) return damaged(at, `the box ${type} runs past the end of the file`);
    seen.add(type);
    boxes += 1;
    at += length;
  }
  if (!seen.has("moov") && !seen.has("meta") && !seen.has("moof")) return damaged(source.size, "the index of the recording is missing");
  return SOUND;
}

const brand = (head: Uint8Array) => (hasAscii(head, 4, "ftyp") ? String.fromCharCode(...head.subarray(8, 12)) : "");

export const isoMediaFormats: readonly Format[] = [
  {
    id: "heic",
    kind: "pictures",
    title: "HEIC picture",
    extensions: ["heic", "heif"],
    recognise: (head) => /^(hei|hev|mif1|msf1)/.test(brand(head)),
    check,
  },
  { id: "avif", kind: "pictures", title: "AVIF picture", extensions: ["avif"], recognise: (head) => brand(head).startsWith("avi"), check },
  { id: "m4a", kind: "audio", title: "MPEG-4 sound", extensions: ["m4a"], recognise: (head) => /^M4[AB] /.test(brand(head)), check },
  {
    id: "mp4",
    kind: "video",
    title: "MPEG-4 video",
    extensions: ["mp4", "mov", "m4v", "3gp"],
    recognise: (head) => brand(head) !== "" || hasAscii(head, 4, "moov") || hasAscii(head, 4, "mdat"),
    check,
  },
];
