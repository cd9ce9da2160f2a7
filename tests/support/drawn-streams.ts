import type { NamedStream } from "../../core/restore/two-files";

/** A named stream by its bytes. */
export interface StreamBytes {
  readonly name: string;
  readonly bytes: Buffer;
}

export const heldStream = ({ name, bytes }: StreamBytes): NamedStream => ({
  name,
  size: bytes.length,
  layout: { size: bytes.length, segments: [{ kind: "held", at: 0, length: bytes.length, bytes }] },
});

const stream = (name: string, bytes: Buffer | string): StreamBytes => ({ name, bytes: Buffer.from(bytes) });
/** Bytes by which every offset differs from every other one nearby. */
const many = (length: number) => Buffer.from(Array.from({ length }, (_, index) => (index * 7 + (index >> 8) * 13) & 0xff));
function padded(text: string): Buffer {
  const bytes = Buffer.alloc(32);
  bytes.write(text, "latin1");
  return bytes;
}
const finder = stream("com.apple.FinderInfo", padded("TEXTttxt\0\x40"));

/** Streams of files as a Mac has them: a fork alone, all three kinds, attributes alone with long and foreign names and no bytes. */
export const DRAWN_STREAMS: readonly (readonly StreamBytes[])[] = [
  [stream("rsrc", many(286))],
  [finder],
  [stream("rsrc", many(5000)), finder, stream("com.example.note", "hello world"), stream("user.größe", many(300))],
  [stream("x", many(1)), stream(`user.${"long".repeat(30)}`, many(4097)), stream("com.example.日本", many(3))],
];
