import { type ByteSource, readBytes } from "../core/bytes/byte-source";
import { EMPTY_LAYOUT, LayoutSource } from "../core/bytes/layout";
import { attributeName, type StreamAttribute } from "../core/restore/carried";
import { gapsOf, hasGaps } from "../core/restore/gaps";
import type { NamedStream } from "../core/restore/two-files";

/** Bytes of the streams of one file that are kept with it at most: file systems hold far less than that. */
const MOST_BYTES = 1 << 20;

/**
 * Reads the named streams of a file, to be kept with it as extended attributes. One that is too large, that cannot be one, of which the place
 * is not known, or of which bytes are missing, is left out.
 */
export function readStreamAttributes(disk: ByteSource, streams: readonly NamedStream[]): StreamAttribute[] {
  const names = new Set<string>();
  let bytes = 0;
  return streams.flatMap((stream) => {
    const name = attributeName(stream);
    const layout = stream.size === 0 ? EMPTY_LAYOUT : stream.layout;
    if (name === null || names.has(name) || layout === null || layout.size !== stream.size || bytes + stream.size > MOST_BYTES) return [];
    const content = new LayoutSource(disk, layout);
    const value = readBytes(content, 0, stream.size);
    if (value.length !== stream.size || hasGaps(gapsOf(content))) return [];
    names.add(name);
    bytes += stream.size;
    return [{ stream: stream.name, name, value }];
  });
}
