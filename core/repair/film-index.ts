import type { BlockReader } from "../bytes/block-reader";
import { type Box, boxesIn, findBox } from "../formats/iso-media/boxes";
import { readTracks, type Track } from "../formats/iso-media/samples";

/** A picture as the index lists it. */
export interface ListedPicture {
  readonly at: number;
  readonly length: number;
  readonly key: boolean;
}

/** What the new index says beside the pictures. */
export interface IndexPlan {
  readonly pictures: readonly ListedPicture[];
  /** How long each is shown, in the track's own units of time. */
  readonly duration: number;
  /** By how many pictures each is shown later than it is coded; null: as they come. */
  readonly later: readonly number[] | null;
}

const MOST_OFFSET = 2 ** 32;

/**
 * An index (`moov`, ISO/IEC 14496-12, 8.2) after the model of another recording's: its settings, with one track of pictures and the
 * places of these. Sound and whatever else the model has is left out.
 * @param track the model's track of pictures
 */
export function filmIndex(model: BlockReader, moov: Box, track: Track, plan: IndexPlan): Uint8Array {
  const movieScale = scaleOf(model, findBox(model, moov, "mvhd"));
  const mediaScale = scaleOf(model, findBox(model, track.box, "mdhd"));
  const length = plan.pictures.length * plan.duration;
  const movieLength = Math.round((length / mediaScale) * movieScale);
  const copy = ({ at, end }: Box) => model.bytes(at, end - at).slice();
  const children = (box: Box) => [...boxesIn(model, box.content, box.end)];
  const media = (box: Box): Uint8Array[] => {
    if (box.type === "mdhd") return [withLength(copy(box), box, 16, 24, length)];
    if (box.type === "minf" || box.type === "mdia") return [boxOf(box.type, ...children(box).flatMap(media))];
    return [box.type === "stbl" ? sampleTable(model, box, plan) : copy(box)];
  };
  // An edit list or a reference tells of the other recording's times and tracks.
  const trackParts = children(track.box)
    .filter(({ type }) => type === "tkhd" || type === "mdia" || type === "meta" || type === "tapt")
    .flatMap((box) => (box.type === "tkhd" ? [withLength(copy(box), box, 20, 28, movieLength)] : media(box)));
  const movieParts = children(moov).flatMap((box) => {
    if (box.type === "mvhd") return [withLength(copy(box), box, 16, 24, movieLength)];
    if (box.type === "trak") return box.at === track.box.at ? [boxOf("trak", ...trackParts)] : [];
    return box.type === "mvex" ? [] : [copy(box)];
  });
  return boxOf("moov", ...movieParts);
}

/** The other recording's track of pictures in NAL units, and how long it shows most of them. Null: it has none. */
export function pictureTrack(model: BlockReader, moov: Box): { track: Track; duration: number } | null {
  const track = readTracks(model, moov).find(({ nalLength }) => nalLength > 0);
  const times = track && findBox(model, track.box, "stts");
  if (!track || !times) return null;
  const counts = new Map<number, number>();
  for (let i = 0; i < Math.min(65_536, model.u32be(times.content + 4)); i += 1) {
    const [count, each] = [model.u32be(times.content + 8 + i * 8), model.u32be(times.content + 12 + i * 8)];
    counts.set(each, (counts.get(each) ?? 0) + count);
  }
  const duration = [...counts].sort((a, b) => b[1] - a[1])[0]?.[0];
  return duration ? { track, duration } : null;
}

const scaleOf = (model: BlockReader, box: Box | null) =>
  box ? Math.max(1, model.u32be(box.content + (model.u8(box.content) === 1 ? 20 : 12))) : 1000;

/** A header box with another length in it: at one place in version 0 (4 bytes), at another in version 1 (8 bytes). */
function withLength(bytes: Uint8Array, box: Box, short: number, long: number, length: number): Uint8Array {
  const header = box.content - box.at;
  const view = new DataView(bytes.buffer);
  if (bytes[header] === 1) view.setBigUint64(header + long, BigInt(length));
  else view.setUint32(header + short, Math.min(length, MOST_OFFSET - 1));
  return bytes;
}

/** The tables of one track (8.5 to 8.7): its settings are the model's, each picture is a chunk of its own. */
function sampleTable(model: BlockReader, box: Box, { pictures, duration, later }: IndexPlan): Uint8Array {
  const settings = findBox(model, box, "stsd");
  const keys = pictures.flatMap(({ key }, i) => (key ? [i + 1] : []));
  const far = (pictures.at(-1)?.at ?? 0) >= MOST_OFFSET;
  const parts = [
    settings ? model.bytes(settings.at, settings.end - settings.at).slice() : new Uint8Array(),
    table("stts", [1, pictures.length, duration]),
    ...(later ? [table("ctts", [pictures.length, ...later.flatMap((places) => [1, places * duration])])] : []),
    ...(keys.length < pictures.length ? [table("stss", [keys.length, ...keys])] : []),
    table("stsc", [1, 1, 1, 1]),
    table("stsz", [0, pictures.length, ...pictures.map(({ length }) => length)]),
    far
      ? table("co64", [pictures.length, ...pictures.flatMap(({ at }) => [Math.floor(at / MOST_OFFSET), at % MOST_OFFSET])])
      : table("stco", [pictures.length, ...pictures.map(({ at }) => at)]),
  ];
  return boxOf("stbl", ...parts);
}

/** A box of version 0 with nothing but numbers of four bytes. */
function table(type: string, numbers: readonly number[]): Uint8Array {
  const content = new Uint8Array(4 + 4 * numbers.length);
  const view = new DataView(content.buffer);
  numbers.forEach((number, i) => {
    view.setUint32(4 + 4 * i, number);
  });
  return boxOf(type, content);
}

function boxOf(type: string, ...parts: readonly Uint8Array[]): Uint8Array {
  const length = parts.reduce((sum, part) => sum + part.length, 8);
  const bytes = new Uint8Array(length);
  new DataView(bytes.buffer).setUint32(0, length);
  bytes.set(new TextEncoder().encode(type), 4);
  let at = 8;
  for (const part of parts) {
    bytes.set(part, at);
    at += part.length;
  }
  return bytes;
}
