import { Cursor } from "../bytes/cursor";
import { FILE_MARK, marksOfMode } from "../bytes/file-marks";

/** Flags of `chflags(2)`: the owner's (UF_…) in the low half, those of the administrator (SF_…) in the high one. */
export const BSD_FLAG = { ownerImmutable: 0x2, hidden: 0x8000, immutable: 0x2_0000 } as const;
/** In the Finder's flags: kIsInvisible ("Finder Info" of the volume format note). */
const INVISIBLE = 0x4000;

/**
 * The marks of a file of a Mac: it may not be written by its owner; it is not shown.
 * @param mode Unix mode; 0: none is kept
 * @param finderFlags the Finder's flags; 0: none are kept
 */
export function marksOfMac({ flags, mode, finderFlags }: { flags: number; mode: number; finderFlags: number }): number {
  const immutable = (flags & (BSD_FLAG.ownerImmutable | BSD_FLAG.immutable)) !== 0;
  const hidden = (flags & BSD_FLAG.hidden) !== 0 || (finderFlags & INVISIBLE) !== 0;
  return (immutable ? FILE_MARK.readOnly : 0) | marksOfMode(mode) | (hidden ? FILE_MARK.hidden : 0);
}

/** Where the Finder's flags stand in what it keeps of a file ("Finder Info": behind type and creator). */
const FINDER_FLAGS_AT = 8;

/** The Finder's flags in the 32 bytes it keeps of a file; 0 where there are none. */
export const finderFlagsIn = (info: Uint8Array | undefined): number =>
  info && info.length >= FINDER_FLAGS_AT + 2 ? new Cursor(info).u16be(FINDER_FLAGS_AT) : 0;
