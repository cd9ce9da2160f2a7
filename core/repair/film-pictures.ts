import type { BlockReader } from "../bytes/block-reader";
import { PastEnd } from "../bytes/past-end";
import { NAL_CODECS } from "../formats/iso-media/box-names";
import { type Box, boxesIn, findBox } from "../formats/iso-media/boxes";
import { hevcOrder } from "../formats/iso-media/hevc-order";
import { codingOf, h264Order, type NalCoding, type PictureOrder, shownAt, type Unit, unitOf } from "../formats/iso-media/nal-units";
import { type Sample, type Track, trackSamples } from "../formats/iso-media/samples";
import type { ListedPicture } from "./film-index";

/** What a recorder's other recording teaches of its pictures. */
export interface PictureModel {
  readonly coding: NalCoding;
  readonly nalLength: number;
  /** Kinds of units it writes. */
  readonly types: ReadonlySet<number>;
  /** The longest unit that is believed, in bytes. */
  readonly longest: number;
  /** How pictures give the order in which they are shown; null: they cannot be asked. */
  readonly order: PictureOrder | null;
}

/** Units of the model that are looked at. */
const MOST_LOOKED_AT = 20_000;
/** A recording may have a picture so many times as long as the longest of the other. */
const LONGER = 8;
const MOST_PICTURES = 2_000_000;
/** Bytes of a slice that are read for its beginning. */
const SLICE_HEAD = 48;

/** Learns from a sound recording. Null: it has no such pictures. */
export function pictureModel(reader: BlockReader, track: Track): PictureModel | null {
  const coding = codingOf(track.codec);
  if (!coding) return null;
  const types = new Set<number>();
  let [longest, looked] = [0, 0];
  for (const { at, length } of trackSamples(reader, track))
    for (let unit = at; unit + track.nalLength < at + length && looked < MOST_LOOKED_AT; looked += 1) {
      const size = lengthAt(reader, unit, track.nalLength);
      const coded = size > 0 ? unitOf(coding, reader.bytes(unit + track.nalLength, Math.min(3, size))) : null;
      if (coded) types.add(coded.type);
      longest = Math.max(longest, size);
      unit += track.nalLength + size;
    }
  return types.size > 0 ? { coding, nalLength: track.nalLength, types, longest: longest * LONGER, order: orderIn(reader, track) } : null;
}

/** How pictures give their order: by the settings that stand in the index (ISO/IEC 14496-15, 5.3.3.1 and 8.3.3.1). */
function orderIn(reader: BlockReader, track: Track): PictureOrder | null {
  const kind = NAL_CODECS[track.codec];
  const entries = findBox(reader, track.box, "stsd");
  if (!kind || !entries) return null;
  for (const box of boxesIn(reader, entries.content + 8 + 86, entries.end)) {
    if (box.type !== kind.box) continue;
    if (box.type === "hvcC") return hevcOrder(hevcSettings(reader, box));
    const [first] = units(reader, box.content + 6, reader.u8(box.content + 5) & 31, box.end);
    return first ? h264Order(first) : null;
  }
  return null;
}

/** Units behind their lengths of two bytes. */
function units(reader: BlockReader, at: number, count: number, end: number): Uint8Array[] {
  const found: Uint8Array[] = [];
  for (let next = at; found.length < count && next + 2 <= end; ) {
    const length = Math.min(reader.u16be(next), end - next - 2);
    found.push(reader.bytes(next + 2, length).slice());
    next += 2 + length;
  }
  return found;
}

/** All parameter sets: lists of units, each list behind its kind and count. */
function hevcSettings(reader: BlockReader, box: Box): Uint8Array[] {
  const all: Uint8Array[] = [];
  let at = box.content + 23;
  for (let left = reader.u8(box.content + 22); left > 0 && at + 3 <= box.end; left -= 1) {
    const list = units(reader, at + 3, reader.u16be(at + 1), box.end);
    all.push(...list);
    at += 3 + list.reduce((sum, unit) => sum + 2 + unit.length, 0);
  }
  return all;
}

function lengthAt(reader: BlockReader, at: number, bytes: number): number {
  let length = 0;
  for (let i = 0; i < bytes; i += 1) length = length * 256 + reader.u8(at + i);
  return length;
}

export interface FoundPictures {
  readonly pictures: readonly ListedPicture[];
  /** By how many pictures each is shown later than it is coded; null: as they come, or it cannot be known. */
  readonly later: readonly number[] | null;
  /** What stands before, between and behind the pictures: sound, or what is damaged. */
  readonly between: readonly Sample[];
}

/** The pictures in [from, end): units behind their lengths, one after the other, with other data in between. */
export function findPictures(reader: BlockReader, model: PictureModel, from: number, end: number): FoundPictures {
  const walk = new PictureWalk(reader, model, end);
  try {
    walk.run(from);
  } catch (error) {
    // The data break off within a unit: what was complete before stays.
    if (!(error instanceof PastEnd)) throw error;
  }
  return walk.found();
}

class PictureWalk {
  readonly #pictures: (ListedPicture & { reference: boolean; order: number | null })[] = [];
  readonly #between: { at: number; length: number }[] = [];
  /** The picture that is being put together. */
  #open: { at: number; end: number; key: boolean; reference: boolean; order: number | null; sliced: boolean } | null = null;

  constructor(
    private readonly reader: BlockReader,
    private readonly model: PictureModel,
    private readonly end: number,
  ) {}

  run(from: number): void {
    for (let at = from; at < this.end && this.#pictures.length < MOST_PICTURES; ) {
      const unit = this.#unitAt(at);
      if (unit && (this.#open || beginsPicture(unit.unit))) {
        this.#take(at, unit);
        at += unit.size;
        continue;
      }
      this.#close();
      const last = this.#between.at(-1);
      if (last && last.at + last.length === at) last.length += 1;
      else this.#between.push({ at, length: 1 });
      at += 1;
    }
    this.#close();
  }

  found(): FoundPictures {
    const pictures = this.#pictures.map(({ at, length, key }) => ({ at, length, key }));
    return { pictures, later: this.#later(), between: this.#between };
  }

  /** A unit that can stand here, with its length before it. */
  #unitAt(at: number): { unit: Unit; size: number } | null {
    const { nalLength, coding, types, longest } = this.model;
    if (at + nalLength + 1 > this.end) return null;
    const length = lengthAt(this.reader, at, nalLength);
    if (length < 1 || length > longest || at + nalLength + length > this.end) return null;
    const unit = unitOf(coding, this.reader.bytes(at + nalLength, Math.min(3, length)));
    return unit && types.has(unit.type) ? { unit, size: nalLength + length } : null;
  }

  #take(at: number, { unit, size }: { unit: Unit; size: number }): void {
    if (this.#open?.sliced && (unit.leads || unit.first)) this.#close();
    this.#open ??= { at, end: at, key: false, reference: false, order: null, sliced: false };
    const open = this.#open;
    open.end = at + size;
    if (!unit.slice) return;
    if (!open.sliced) open.order = this.#orderAt(at, size);
    open.sliced = true;
    open.key ||= unit.key;
    open.reference ||= unit.reference;
  }

  #orderAt(at: number, size: number): number | null {
    const { order, nalLength } = this.model;
    if (!order || order.bits === 0) return null;
    return order.of(this.reader.bytes(at + nalLength, Math.min(SLICE_HEAD, size - nalLength)));
  }

  #close(): void {
    const open = this.#open;
    this.#open = null;
    if (!open?.sliced) return;
    const { at, end, key, reference, order } = open;
    this.#pictures.push({ at, length: end - at, key, reference, order });
  }

  #later(): number[] | null {
    const bits = this.model.order?.bits ?? 0;
    const ordered = this.#pictures.flatMap(({ key, reference, order }) => (order === null ? [] : [{ key, reference, order }]));
    if (bits === 0 || ordered.length < this.#pictures.length) return null;
    const later = shownAt(ordered, bits).map((shown, coded) => shown - coded);
    const earliest = later.reduce((least, each) => Math.min(least, each), 0);
    return later.every((each) => each === 0) ? null : later.map((each) => each - earliest);
  }
}

/** Pictures begin with what stands before their first part, or with that part. */
const beginsPicture = ({ leads, first }: Unit) => leads || first;
