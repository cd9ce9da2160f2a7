import { type ByteSource, readBytes } from "../bytes/byte-source";
import { Cursor } from "../bytes/cursor";
import { damaged, type Format, SOUND, type Verdict } from "./format";

const STEP = 1 << 16;
const MARKER = { soi: 0xd8, eoi: 0xd9, sos: 0xda, tem: 0x01, rst0: 0xd0, rst7: 0xd7, dht: 0xc4, jpg: 0xc8, dac: 0xcc } as const;
const isFrame = (marker: number) =>
  marker >= 0xc0 && marker <= 0xcf && marker !== MARKER.dht && marker !== MARKER.jpg && marker !== MARKER.dac;

/** JPEG: ITU-T T.81, annex B (markers and marker segments). */
export const jpeg: Format = {
  id: "jpeg",
  kind: "pictures",
  title: "JPEG picture",
  extensions: ["jpg", "jpeg", "jpe", "jfif"],
  recognise: (head) => head[0] === 0xff && head[1] === MARKER.soi && head[2] === 0xff && (head[3] ?? 0) >= 0xc0,
  check,
};

function check(source: ByteSource): Verdict {
  let at = 2;
  let frame = false;
  let scan = false;
  while (at + 2 <= source.size) {
    const [mark, marker] = readBytes(source, at, 2) as unknown as [number, number];
    if (mark !== 0xff) return damaged(at, "no marker stands where the next part should begin");
    if (marker === 0xff) {
      at += 1;
      continue;
    }
    if (marker === MARKER.eoi) return frame && scan ? SOUND : damaged(at, "the picture ends before any picture data");
    if (marker < 0xc0 && marker !== MARKER.tem) return damaged(at, "an unknown marker stands between the parts");
    if (at + 4 > source.size) break;
    const length = new Cursor(readBytes(source, at + 2, 2)).u16be(0);
    if (length < 2 || at + 2 + length > source.size) return damaged(at, "a part runs past the end of the file");
    frame ||= isFrame(marker);
    at += 2 + length;
    if (marker !== MARKER.sos) continue;
    if (!frame) return damaged(at, "picture data come before the picture's header");
    scan = true;
    const next = endOfScan(source, at);
    if (next.bad) return damaged(next.at, "the picture data are interrupted by something else");
    at = next.at;
  }
  return damaged(source.size, "the picture breaks off before its end");
}

/** Where the coded data end: the next marker that is neither a stuffed 0xFF nor a restart. */
function endOfScan(source: ByteSource, from: number): { at: number; bad: boolean } {
  const block = new Uint8Array(STEP);
  for (let at = from; at < source.size; at += STEP - 1) {
    source.read(at, block);
    const usable = Math.min(STEP - 1, source.size - at - 1);
    for (let i = block.indexOf(0xff); i >= 0 && i < usable; i = block.indexOf(0xff, i + 1)) {
      const marker = block[i + 1] as number;
      if (marker === 0 || marker === 0xff || (marker >= MARKER.rst0 && marker <= MARKER.rst7)) continue;
      // Between scans only tables, the next scan, a line count, application data or the end may come.
      const allowed = marker === MARKER.eoi || marker === MARKER.dht || (marker >= 0xda && marker <= 0xdd) || marker >= 0xe0;
      return { at: at + i, bad: !allowed };
    }
  }
  return { at: source.size, bad: false };
}
