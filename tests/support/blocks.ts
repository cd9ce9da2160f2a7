import type { ByteSource } from "../../core/bytes/byte-source";

const BLOCK = 4096;

function* blocksOf(packed: Buffer): Generator<[number: number, at: number], void, void> {
  for (let at = 8; at + 4 + BLOCK <= packed.length; at += 4 + BLOCK) yield [packed.readUInt32LE(at), at + 4];
}

/**
 * Unpacks an image of which only some blocks are kept: its size (8 bytes), then each block of 4096 bytes with its number (4 bytes).
 * @param base what stands where no block is kept; by default zeros
 */
export function unpackBlocks(packed: Buffer, base?: Uint8Array): Uint8Array {
  const bytes = new Uint8Array(Number(packed.readBigUInt64LE(0)));
  if (base) bytes.set(base.subarray(0, bytes.length));
  for (const [number, at] of blocksOf(packed))
    bytes.set(packed.subarray(at, Math.min(at + BLOCK, at + bytes.length - number * BLOCK)), number * BLOCK);
  return bytes;
}

/** The same without the memory for all that is empty. */
export function blocksSource(packed: Buffer): ByteSource {
  const size = Number(packed.readBigUInt64LE(0));
  const blocks = new Map(blocksOf(packed));
  return {
    size,
    read(at, into) {
      into.fill(0);
      const end = Math.min(size, at + into.length);
      for (let from = at; from < end; ) {
        const number = Math.floor(from / BLOCK);
        const inside = from - number * BLOCK;
        const part = Math.min(BLOCK - inside, end - from);
        const place = blocks.get(number);
        if (place !== undefined) into.set(packed.subarray(place + inside, place + inside + part), from - at);
        from += part;
      }
    },
    unreadable: () => [],
  };
}
