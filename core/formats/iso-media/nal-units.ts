/** Coded pictures as NAL units: what one unit is, and in which order pictures are shown. */
import { PayloadBits } from "./payload-bits";

export type NalCoding = "h264" | "hevc";

/** How a sample entry's units are coded; null: they are no such units. */
export const codingOf = (codec: string): NalCoding | null =>
  codec === "avc1" || codec === "avc3" ? "h264" : codec === "hvc1" || codec === "hev1" ? "hevc" : null;

export interface Unit {
  readonly type: number;
  /** Those that follow count their places from it. */
  readonly reference: boolean;
  /** It is a part of a picture, and the first of it. */
  readonly slice: boolean;
  readonly first: boolean;
  /** A picture that needs no other before it. */
  readonly key: boolean;
  /** Where it follows a part of a picture, the next picture begins with it. */
  readonly leads: boolean;
}

/**
 * What the unit is that begins with these bytes (ITU-T H.264, 7.3.1, 7.4.1 and table 7-1; H.265, 7.3.1.2 and table 7-1).
 * @param head its first bytes: three, or all it has
 * @returns null where no unit can begin so
 */
export function unitOf(coding: NalCoding, head: Uint8Array): Unit | null {
  const [first = 0x80, second = 0, third = 0] = head;
  if (first & 0x80 || head.length < (coding === "h264" ? 1 : 2)) return null;
  if (coding === "h264") {
    const type = first & 31;
    const reference = (first & 0x60) !== 0;
    if (type === 0 || type > 12 || (type >= 2 && type <= 4)) return null;
    // Pictures that need no other and what all refer to are references; what only describes the data is none.
    if (type >= 5 && (type === 5 || type === 7 || type === 8) !== reference) return null;
    const slice = type === 1 || type === 5;
    return { type, reference, slice, first: slice && (second & 0x80) !== 0, key: type === 5, leads: type >= 6 && type <= 9 };
  }
  const type = (first >> 1) & 63;
  // Pictures of further layers and the reserved kinds do not occur in recordings.
  if (first & 1 || second & 0xf8 || (second & 7) === 0 || (type > 9 && type < 16) || (type > 21 && type < 32) || type > 40) return null;
  const slice = type < 32;
  return {
    type,
    // Of the lowest layer of time, and none of those that are shown before the picture they follow (H.265, 8.3.1).
    reference: slice && (second & 7) === 1 && (type >= 16 || (type < 6 && type % 2 === 1)),
    slice,
    first: slice && (third & 0x80) !== 0,
    key: type >= 16 && type <= 21,
    leads: (type >= 32 && type <= 35) || type === 39,
  };
}

/** What of a sequence's settings is needed to read the beginning of a slice. */
export interface OrderSettings {
  readonly separatePlanes: boolean;
  readonly frameNumberBits: number;
  /** How pictures give their place (8.2.1): 0 by number, 1 by a pattern, 2 not at all: they are shown as they come. */
  readonly orderType: number;
  readonly orderBits: number;
  readonly framesOnly: boolean;
}

/** How the pictures of a recording give the order in which they are shown. */
export interface PictureOrder {
  /** Lower bits of its place that a picture gives; 0: none, they are shown as they come. */
  readonly bits: number;
  /** The lower bits of a picture's place, from the beginning of its first slice. Null: the slice makes no sense. */
  of(unit: Uint8Array): number | null;
}

/** The order of H.264 pictures, by a sequence parameter set. Null: it makes no sense. */
export function h264Order(sequence: Uint8Array): PictureOrder | null {
  const settings = orderSettings(sequence);
  if (!settings) return null;
  return settings.orderType === 0 ? { bits: settings.orderBits, of: (unit) => orderBitsOf(unit, settings) } : { bits: 0, of: () => null };
}

/** Profiles whose settings describe the colours (7.3.2.1.1). */
const RICH_PROFILES: ReadonlySet<number> = new Set([100, 110, 122, 244, 44, 83, 86, 118, 128, 138, 139, 134, 135]);

/** Reads an H.264 sequence parameter set, its header byte first (7.3.2.1.1). Null: it makes no sense. */
export function orderSettings(unit: Uint8Array): OrderSettings | null {
  if (((unit[0] ?? 0) & 31) !== 7) return null;
  const bits = new PayloadBits(unit.subarray(1));
  const profile = bits.u(8);
  bits.u(16);
  bits.ue();
  let separatePlanes = false;
  if (RICH_PROFILES.has(profile)) {
    const colours = bits.ue();
    if (colours === 3) separatePlanes = bits.u(1) === 1;
    bits.ue();
    bits.ue();
    bits.u(1);
    const scaling = bits.u(1) === 1 ? (colours === 3 ? 12 : 8) : 0;
    for (let i = 0; i < scaling; i += 1) if (bits.u(1) === 1) skipScaling(bits, i < 6 ? 16 : 64);
  }
  const frameNumberBits = bits.ue() + 4;
  const orderType = bits.ue();
  let orderBits = 0;
  if (orderType === 0) orderBits = bits.ue() + 4;
  else if (orderType === 1) {
    bits.u(1);
    bits.se();
    bits.se();
    for (let left = Math.min(255, bits.ue()); left > 0; left -= 1) bits.se();
  }
  bits.ue();
  bits.u(1);
  bits.ue();
  bits.ue();
  const framesOnly = bits.u(1) === 1;
  if (bits.isOver || frameNumberBits > 16 || orderBits > 16 || orderType > 2) return null;
  return { separatePlanes, frameNumberBits, orderType, orderBits, framesOnly };
}

function skipScaling(bits: PayloadBits, count: number): void {
  let [last, next] = [8, 8];
  for (let i = 0; i < count && next !== 0 && !bits.isOver; i += 1) {
    next = (last + bits.se() + 256) % 256;
    if (next !== 0) last = next;
  }
}

/** The lower bits of a picture's place in the order of showing, from its first slice (7.3.3). Null: the slice makes no sense. */
export function orderBitsOf(unit: Uint8Array, settings: OrderSettings): number | null {
  const bits = new PayloadBits(unit.subarray(1));
  bits.ue();
  if (bits.ue() > 9 || bits.ue() > 255) return null;
  if (settings.separatePlanes) bits.u(2);
  bits.u(settings.frameNumberBits);
  if (!settings.framesOnly && bits.u(1) === 1) bits.u(1);
  if (((unit[0] ?? 0) & 31) === 5) bits.ue();
  const order = bits.u(settings.orderBits);
  return bits.isOver ? null : order;
}

/** A coded picture, in the order of coding. */
export interface CodedPicture {
  readonly key: boolean;
  readonly reference: boolean;
  /** The lower bits of its place. */
  readonly order: number;
}

/**
 * At which place each picture is shown, 0 for the first: pictures in the order of coding in, as many places out (8.2.1.1).
 * @param bits how many lower bits of its place a picture gives
 */
export function shownAt(pictures: readonly CodedPicture[], bits: number): number[] {
  const half = 2 ** (bits - 1);
  let [period, high, low] = [0, 0, 0];
  const places = pictures.map(({ key, reference, order }, index) => {
    if (key) {
      period += 1;
      [high, low] = [0, 0];
    }
    const own = order < low && low - order >= half ? high + 2 * half : order > low && order - low > half ? high - 2 * half : high;
    if (reference) [high, low] = [own, order];
    return { index, period, order: own + order };
  });
  const shown = new Array<number>(pictures.length).fill(0);
  places
    .sort((a, b) => a.period - b.period || a.order - b.order || a.index - b.index)
    .forEach(({ index }, place) => {
      shown[index] = place;
    });
  return shown;
}
