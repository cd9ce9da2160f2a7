import { type ByteSource, readBytes } from "../bytes/byte-source";
import { Cursor } from "../bytes/cursor";
import { damaged, type Format, hasAscii, type Kind, SOUND, type Verdict } from "./format";

/** RIFF: the published Multimedia Programming Interface, "Resource Interchange File Format": chunks padded to even. */
function check(source: ByteSource): Verdict {
  const end = new Cursor(readBytes(source, 4, 4)).u32(0) + 8;
  if (end > source.size) return damaged(source.size, "the file breaks off before its end");
  for (let at = 12; at + 8 <= end; ) {
    const head = new Cursor(readBytes(source, at, 8));
    if (!/^[\x20-\x7e]{4}$/.test(String.fromCharCode(...head.slice(0, 4)))) return damaged(at, "no chunk begins where the next one should");
    const length = head.u32(4);
    if (at + 8 + length > end) return damaged(at, "a chunk runs past the end of the file");
    at += 8 + length + (length % 2);
  }
  return SOUND;
}

const riff = (id: string, kind: Kind, title: string, form: string): Format => ({
  id,
  kind,
  title,
  extensions: [id],
  recognise: (head) => hasAscii(head, 0, "RIFF") && hasAscii(head, 8, form),
  check,
});

export const riffFormats: readonly Format[] = [
  riff("wav", "audio", "WAV sound", "WAVE"),
  riff("avi", "video", "AVI video", "AVI "),
  riff("webp", "pictures", "WebP picture", "WEBP"),
];
