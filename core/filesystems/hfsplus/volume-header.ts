import { type ByteSource, readBytes, WindowSource } from "../../bytes/byte-source";
import { Cursor } from "../../bytes/cursor";
import { powerOfTwo } from "../boot-sectors";
import { FileSystemError } from "../file-record";
import { type Fork, readFork } from "./catalog-record";
import { HEADER_AT, IDENTIFIER, SIGNATURE, SPECIAL, VOLUME_HEADER, WRAPPER } from "./layout";

/** The measures of a volume, and where its special files stand. */
export interface VolumeHeader {
  readonly facts: ReturnType<typeof VOLUME_HEADER.read>;
  /** The 64 bits that tell it from other volumes ([TN1150] Finder Info, `finderInfo[6]` and `[7]`), as 16 digits; null: it has none. */
  readonly identifier: string | null;
  readonly forks: { readonly [Name in keyof typeof SPECIAL]: Fork };
}

/** Reads a volume header (or its copy) at a place of the volume; null: there is none that could be right. */
export function readVolumeHeader(volume: ByteSource, at: number): VolumeHeader | null {
  if (at < 0 || at + VOLUME_HEADER.size > volume.size) return null;
  const cursor = new Cursor(readBytes(volume, at, VOLUME_HEADER.size));
  const facts = VOLUME_HEADER.read(cursor, 0);
  if (facts.signature !== SIGNATURE.hfsPlus && facts.signature !== SIGNATURE.hfsx) return null;
  if (!powerOfTwo(facts.blockSize) || facts.blockSize < 512 || facts.blockSize > 1 << 24 || facts.totalBlocks === 0) return null;
  const fork = (place: number) => readFork(cursor, place);
  const identifier = Buffer.from(cursor.slice(IDENTIFIER.at, IDENTIFIER.length)).toString("hex");
  return {
    facts,
    identifier: /^0*$/.test(identifier) ? null : identifier,
    forks: {
      allocation: fork(SPECIAL.allocation),
      extents: fork(SPECIAL.extents),
      catalog: fork(SPECIAL.catalog),
      attributes: fork(SPECIAL.attributes),
      startup: fork(SPECIAL.startup),
    },
  };
}

/** Finds the copy of the header near the volume's end; null: it is gone. */
function findCopy(volume: ByteSource): VolumeHeader | null {
  // The copy stands in the last sector but one; where the partition is not a whole number of sectors, before that.
  for (const size of [volume.size, volume.size - (volume.size % 512), volume.size - (volume.size % 4096)]) {
    const copy = readVolumeHeader(volume, size - HEADER_AT);
    if (copy) return copy;
  }
  return null;
}

/** Finds the header, or its copy near the volume's end; null: neither can be used. */
export const findHeader = (volume: ByteSource): VolumeHeader | null => readVolumeHeader(volume, HEADER_AT) ?? findCopy(volume);

/** Reads the header, or its copy near the volume's end. @throws FileSystemError when neither can be used */
export function readEitherHeader(volume: ByteSource): { header: VolumeHeader; notes: string[] } {
  const header = readVolumeHeader(volume, HEADER_AT);
  if (header) return { header, notes: [] };
  const copy = findCopy(volume);
  if (copy) return { header: copy, notes: ["The volume's header is damaged; its copy at the end of the volume was used."] };
  throw new FileSystemError("Neither the volume's header nor its copy at the end can be read.");
}

/** Where a volume stands that lies within an older one, as bytes of it; null: there is none. */
export function embeddedIn(volume: ByteSource): { at: number; length: number } | null {
  if (volume.size < HEADER_AT + WRAPPER.size) return null;
  const cursor = new Cursor(readBytes(volume, HEADER_AT, WRAPPER.size));
  if (cursor.u16be(0) !== SIGNATURE.wrapper) return null;
  const wrapper = WRAPPER.read(cursor, 0);
  if (wrapper.embeddedSignature !== SIGNATURE.hfsPlus && wrapper.embeddedSignature !== SIGNATURE.hfsx) return null;
  const at = wrapper.firstAllocationBlock * 512 + wrapper.embeddedStart * wrapper.allocationBlockSize;
  const length = Math.min(volume.size - at, wrapper.embeddedCount * wrapper.allocationBlockSize);
  return length > 0 ? { at, length } : null;
}

/** The volume itself, whether or not an older one is wrapped round it; and where it begins in the stretch. */
export function unwrapped(stretch: ByteSource): { volume: ByteSource; at: number } {
  const inner = embeddedIn(stretch);
  return inner ? { volume: new WindowSource(stretch, inner.at, inner.length), at: inner.at } : { volume: stretch, at: 0 };
}
