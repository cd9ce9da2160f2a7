import type { PictureOrder } from "./nal-units";
import { PayloadBits } from "./payload-bits";

const HEADER = 2;
const SEQUENCE = 33;
const PICTURE = 34;
/** Pictures that begin all anew: their place is 0 and is not given (ITU-T H.265, table 7-1). */
const IDR: ReadonlySet<number> = new Set([19, 20]);
const typeOf = (unit: Uint8Array) => ((unit[0] ?? 0) >> 1) & 63;

/** What of the settings is needed to read the beginning of a slice. */
interface Sequence {
  readonly separatePlanes: boolean;
  readonly orderBits: number;
}
interface Picture {
  readonly outputFlag: boolean;
  readonly extraBits: number;
}

/** Bits of a profile, tier and level but for the level (7.3.3). */
const PROFILE_BITS = 88;

/** 7.3.2.2.1 up to the length of a picture's order count. Null: it makes no sense. */
function readSequence(unit: Uint8Array): Sequence | null {
  const bits = new PayloadBits(unit.subarray(HEADER));
  bits.u(4);
  const layers = bits.u(3);
  bits.u(1);
  bits.u(PROFILE_BITS + 8);
  const present = Array.from({ length: layers }, () => ({ profile: bits.u(1) === 1, level: bits.u(1) === 1 }));
  if (layers > 0) bits.u(2 * (8 - layers));
  for (const { profile, level } of present) bits.u((profile ? PROFILE_BITS : 0) + (level ? 8 : 0));
  bits.ue();
  const separatePlanes = bits.ue() === 3 && bits.u(1) === 1;
  bits.ue();
  bits.ue();
  if (bits.u(1) === 1) for (let i = 0; i < 4; i += 1) bits.ue();
  bits.ue();
  bits.ue();
  const orderBits = bits.ue() + 4;
  return bits.isOver || orderBits > 16 ? null : { separatePlanes, orderBits };
}

/** 7.3.2.3.1 up to the extra bits of a slice's header. Null: it makes no sense. */
function readPicture(unit: Uint8Array): (Picture & { id: number }) | null {
  const bits = new PayloadBits(unit.subarray(HEADER));
  const id = bits.ue();
  bits.ue();
  bits.u(1);
  const outputFlag = bits.u(1) === 1;
  const extraBits = bits.u(3);
  return bits.isOver || id > 63 ? null : { id, outputFlag, extraBits };
}

/**
 * The order of H.265 pictures.
 * @param units the recording's parameter sets, of all kinds
 * @returns null when one that is needed is missing or makes no sense
 */
export function hevcOrder(units: readonly Uint8Array[]): PictureOrder | null {
  const sequences = units.filter((unit) => typeOf(unit) === SEQUENCE).map(readSequence);
  const [sequence] = sequences;
  const pictures = new Map<number, Picture>();
  for (const unit of units) {
    const picture = typeOf(unit) === PICTURE ? readPicture(unit) : null;
    if (picture) pictures.set(picture.id, picture);
  }
  // Several sequences in one recording do not occur; which of them a picture means would have to be followed.
  if (!sequence || sequences.length > 1 || pictures.size === 0) return null;
  return { bits: sequence.orderBits, of: (unit) => orderOf(unit, sequence, pictures) };
}

/** 7.3.6.1 up to the order count of a picture's first slice. */
function orderOf(unit: Uint8Array, { separatePlanes, orderBits }: Sequence, pictures: ReadonlyMap<number, Picture>): number | null {
  const type = typeOf(unit);
  if (IDR.has(type)) return 0;
  const bits = new PayloadBits(unit.subarray(HEADER));
  if (bits.u(1) !== 1) return null;
  if (type >= 16 && type <= 23) bits.u(1);
  const picture = pictures.get(bits.ue());
  if (!picture) return null;
  bits.u(picture.extraBits);
  if (bits.ue() > 2) return null;
  if (picture.outputFlag) bits.u(1);
  if (separatePlanes) bits.u(2);
  const order = bits.u(orderBits);
  return bits.isOver ? null : order;
}
