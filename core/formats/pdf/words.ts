import type { BlockReader } from "../../bytes/block-reader";

/** Bytes at a place as text, one character a byte, as far as there are any. */
export const text = (reader: BlockReader, at: number, length: number) => {
  const bytes = at < 0 || at >= reader.size ? new Uint8Array(0) : reader.bytes(at, Math.min(length, reader.size - at));
  let found = "";
  for (let i = 0; i < bytes.length; i += 1) found += String.fromCharCode(bytes[i] as number);
  return found;
};

/** Bytes that are looked at for a dictionary. */
export const DICTIONARY = 4096;
export const BREAKS_OFF = "the document breaks off before its end";
/** Plain bytes that are unpacked to check a document. */
export const MOST_UNPACKED = 1 << 28;
