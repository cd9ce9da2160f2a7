import { type ByteSource, readBytes } from "../bytes/byte-source";
import { Cursor } from "../bytes/cursor";
import { TRAILER, TRAILER_MARK } from "./udif-layout";

export type Trailer = ReturnType<typeof TRAILER.read>;

/** Reads the trailer at the end of a file; null: it has none. */
export function readTrailer(file: ByteSource): Trailer | null {
  if (file.size < TRAILER.size) return null;
  const trailer = TRAILER.read(new Cursor(readBytes(file, file.size - TRAILER.size, TRAILER.size)), 0);
  return trailer.signature === TRAILER_MARK ? trailer : null;
}
