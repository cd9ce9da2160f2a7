import { type ByteSource, readBytes } from "../bytes/byte-source";

/**
 * Marks by which encrypted volumes begin. They are kept here as the disk has them; what is said of them is general.
 * The first: open documentation of the volume header (libbde); the second: the published on-disk format of the Linux unified
 * key setup, "PHDR", both from memory.
 */
const MARKS: readonly { readonly at: number; readonly bytes: readonly number[]; readonly words: string }[] = [
  { at: 3, bytes: [0x2d, 0x46, 0x56, 0x45, 0x2d, 0x46, 0x53, 0x2d], words: "The whole volume is encrypted by its operating system" },
  { at: 0, bytes: [0x4c, 0x55, 0x4b, 0x53, 0xba, 0xbe], words: "The whole volume is encrypted with a key kept in its header" },
];

const SAMPLE = 4096;
/** Of 4096 random bytes each value comes 16 times on average; the sum of squared deviations over 16 is 255 ± 23 (chi-squared). */
const RANDOM = { least: 150, most: 380 } as const;

/** Why the content of a volume stays closed, in plain words; null: nothing says that it is encrypted. */
export function closedVolume(volume: ByteSource): string | null {
  if (volume.size < SAMPLE) return null;
  const head = readBytes(volume, 0, 512);
  const mark = MARKS.find(({ at, bytes }) => bytes.every((byte, index) => head[at + index] === byte));
  return mark ? `${mark.words}: without the password or recovery key nothing in it can be read. Ask the client for the key.` : null;
}

/** Whether everything looked at in a volume reads like random numbers: encrypted as a whole, or wiped with them. */
export function looksRandom(volume: ByteSource): boolean {
  if (volume.size < 64 * SAMPLE) return false;
  for (let i = 0; i < 16; i += 1) {
    const at = Math.floor(((volume.size - SAMPLE) * i) / 15);
    if (!isRandom(readBytes(volume, at - (at % 512), SAMPLE))) return false;
  }
  return true;
}

function isRandom(bytes: Uint8Array): boolean {
  const counts = new Uint32Array(256);
  for (const byte of bytes) counts[byte] = (counts[byte] as number) + 1;
  const expected = bytes.length / 256;
  let deviation = 0;
  for (const count of counts) deviation += (count - expected) ** 2 / expected;
  return deviation > RANDOM.least && deviation < RANDOM.most;
}
