import type { NamedStream } from "../../core/restore/two-files";

/** A named stream by its bytes. */
export interface ToldStream {
  readonly name: string;
  readonly bytes: Buffer;
}

export const heldStream = ({ name, bytes }: ToldStream): NamedStream => ({
  name,
  size: bytes.length,
  layout: { size: bytes.length, segments: [{ kind: "held", at: 0, length: bytes.length, bytes }] },
});

const told = (name: string, bytes: Buffer | string): ToldStream => ({ name, bytes: Buffer.from(bytes) });
/** Bytes that tell every offset from every other one nearby. */
const many = (length: number) => Buffer.from(Array.from({ length }, (_, index) => (index * 7 + (index >> 8) * 13) & 0xff));
function padded(text: string): Buffer {
  const bytes = Buffer.alloc(32);
  bytes.write(text, "latin1");
  return bytes;
}
const finder = told("com.apple.FinderInfo", padded("TEXTttxt\0\x40"));

/** Streams of files as a Mac has them: a fork alone, all three kinds, attributes alone with long and foreign names and no bytes. */
export const STREAMS_TOLD: readonly (readonly ToldStream[])[] = [
  [told("rsrc", many(286))],
  [finder],
  [told("rsrc", many(5000)), finder, told("com.example.note", "hello world"), told("user.größe", many(300))],
  [told("x", many(1)), told(`user.${"long".repeat(30)}`, many(4097)), told("com.example.日本", many(3))],
];
