import type { BlockReader } from "../bytes/block-reader";
import { PLAIN_SOUND } from "../formats/iso-media/box-names";
import { type Box, boxesIn, findBox } from "../formats/iso-media/boxes";
import { readTracks, type Sample, type Track, trackSamples } from "../formats/iso-media/samples";

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
  /** Sound that is not coded, and where its pieces stand; null: it is left out. */
  readonly sound: { readonly track: SoundTrack; readonly pieces: readonly Sample[] } | null;
}

/** A recording's one track of sound that is not coded. */
export interface SoundTrack {
  readonly box: Box;
  /** Bytes of each of its samples, and how long one lasts in the track's own units of time. */
  readonly sampleSize: number;
  readonly duration: number;
  /** Bytes of its longest piece. */
  readonly longest: number;
}

const MOST_OFFSET = 2 ** 32;

/**
 * An index (`moov`, ISO/IEC 14496-12, 8.2) after the model of another recording's: its settings, with one track of pictures, and one of
 * sound where the plan has it, and the places of these. Whatever else the model has is left out.
 * @param track the model's track of pictures
 */
export function filmIndex(model: BlockReader, moov: Box, track: Track, plan: IndexPlan): Uint8Array {
  const movieScale = scaleOf(model, findBox(model, moov, "mvhd"));
  const { sound, pictures, duration } = plan;
  const tracks: TrackPlan[] = [{ box: track.box, length: pictures.length * duration, tables: pictureTables(plan) }];
  if (sound) {
    const samples = sound.pieces.reduce((sum, { length }) => sum + length / sound.track.sampleSize, 0);
    tracks.push({ box: sound.track.box, length: samples * sound.track.duration, tables: soundTables(sound.track, sound.pieces, samples) });
  }
  const inMovie = ({ box, length }: TrackPlan) => Math.round((length / scaleOf(model, findBox(model, box, "mdhd"))) * movieScale);
  const movieParts = childrenOf(model, moov).flatMap((box) => {
    if (box.type === "mvhd") return [withLength(copyOf(model, box), box, 16, 24, Math.max(...tracks.map(inMovie)))];
    const planned = tracks.find((each) => each.box.at === box.at);
    if (planned) return [trackAfter(model, planned, inMovie(planned))];
    return box.type === "mvex" || box.type === "trak" ? [] : [copyOf(model, box)];
  });
  return boxOf("moov", ...movieParts);
}

/** One track of the new index: the model's, how long it is in its own units of time, and its tables but for the settings. */
interface TrackPlan {
  readonly box: Box;
  readonly length: number;
  readonly tables: readonly Uint8Array[];
}

function trackAfter(model: BlockReader, { box: track, length, tables }: TrackPlan, movieLength: number): Uint8Array {
  const media = (box: Box): Uint8Array[] => {
    if (box.type === "mdhd") return [withLength(copyOf(model, box), box, 16, 24, length)];
    if (box.type === "minf" || box.type === "mdia") return [boxOf(box.type, ...childrenOf(model, box).flatMap(media))];
    if (box.type !== "stbl") return [copyOf(model, box)];
    const settings = findBox(model, box, "stsd");
    return [boxOf("stbl", ...(settings ? [copyOf(model, settings)] : []), ...tables)];
  };
  // An edit list or a reference belongs to the other recording's times and tracks.
  const parts = childrenOf(model, track)
    .filter(({ type }) => type === "tkhd" || type === "mdia" || type === "meta" || type === "tapt")
    .flatMap((box) => (box.type === "tkhd" ? [withLength(copyOf(model, box), box, 20, 28, movieLength)] : media(box)));
  return boxOf("trak", ...parts);
}

const copyOf = (model: BlockReader, { at, end }: Box) => model.bytes(at, end - at).slice();
const childrenOf = (model: BlockReader, box: Box) => [...boxesIn(model, box.content, box.end)];

/** The other recording's sound, if it is not coded and all that it has beside its pictures. */
export function soundTrack(model: BlockReader, moov: Box, pictures: Track): SoundTrack | null {
  const [track, ...others] = readTracks(model, moov).filter(({ box }) => box.at !== pictures.box.at);
  if (!track || others.length > 0 || !PLAIN_SOUND.has(track.codec)) return null;
  const [sizes, times] = [findBox(model, track.box, "stsz"), findBox(model, track.box, "stts")];
  const sampleSize = sizes ? model.u32be(sizes.content + 4) : 0;
  const duration = times && model.u32be(times.content + 4) > 0 ? model.u32be(times.content + 12) : 0;
  if (sampleSize === 0 || sampleSize > 4096 || duration === 0) return null;
  let [longest, piece, end] = [0, 0, -1];
  for (const { at, length } of trackSamples(model, track)) {
    piece = at === end ? piece + length : length;
    end = at + length;
    longest = Math.max(longest, piece);
  }
  return { box: track.box, sampleSize, duration, longest };
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

/** The tables of the pictures (8.5 to 8.7): each is a chunk of its own. */
function pictureTables({ pictures, duration, later }: IndexPlan): Uint8Array[] {
  const keys = pictures.flatMap(({ key }, i) => (key ? [i + 1] : []));
  return [
    table("stts", [1, pictures.length, duration]),
    ...(later ? [table("ctts", [pictures.length, ...later.flatMap((places) => [1, places * duration])])] : []),
    ...(keys.length < pictures.length ? [table("stss", [keys.length, ...keys])] : []),
    table("stsc", [1, 1, 1, 1]),
    table("stsz", [0, pictures.length, ...pictures.map(({ length }) => length)]),
    offsets(pictures),
  ];
}

/** The tables of sound that is not coded: each piece is a chunk. */
function soundTables({ sampleSize, duration }: SoundTrack, pieces: readonly Sample[], samples: number): Uint8Array[] {
  const chunks = pieces.flatMap(({ length }, i) => (length === pieces[i - 1]?.length ? [] : [i + 1, length / sampleSize, 1]));
  return [
    table("stts", [1, samples, duration]),
    table("stsc", [chunks.length / 3, ...chunks]),
    table("stsz", [sampleSize, samples]),
    offsets(pieces),
  ];
}

function offsets(chunks: readonly Sample[]): Uint8Array {
  return (chunks.at(-1)?.at ?? 0) >= MOST_OFFSET
    ? table("co64", [chunks.length, ...chunks.flatMap(({ at }) => [Math.floor(at / MOST_OFFSET), at % MOST_OFFSET])])
    : table("stco", [chunks.length, ...chunks.map(({ at }) => at)]);
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
