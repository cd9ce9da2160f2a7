import type { BlockReader } from "../bytes/block-reader";
import type { Segment } from "../bytes/layout";
import { PastEnd } from "../bytes/past-end";
import { HOLDERS, TOP_BOXES } from "../formats/iso-media/box-names";
import { type Box, boxAt, boxesIn, findBox, findBoxes } from "../formats/iso-media/boxes";
import { brokenUnits, readTracks, type Sample, trackSamples } from "../formats/iso-media/samples";
import { BytesOut } from "./bytes-out";
import { filmIndex, pictureTrack, type SoundTrack, soundTrack } from "./film-index";
import { findPictures, pictureModel } from "./film-pictures";
import { kept, made, type Repaired } from "./repaired";

/** A recording whose index is missing gets one: a sound one's by the same recorder, or one made after its model. */
export function repairFilm(reader: BlockReader, sibling: BlockReader | null): Repaired | null {
  const tops = topBoxes(reader);
  const data = tops.find(({ type }) => type === "mdat");
  if (!data || tops.some(({ type }) => type === "moov") || !sibling) return null;
  const model = topBoxes(sibling);
  const moov = model.find(({ type }) => type === "moov");
  const modelData = model.find(({ type }) => type === "mdat");
  if (!moov || !modelData) return null;
  const end = Math.min(reader.size, data.end);
  const moved = movedIndex(reader, data, sibling, moov, data.content - modelData.content);
  const found = moved ? { index: moved, done: MOVED } : madeIndex(reader, data, sibling, moov, modelData);
  if (!found) return null;
  // The length of the data may never have been written.
  const whole = !data.toEnd && data.end <= reader.size;
  const segments = [kept(0, data.at), ...(whole ? [kept(data.at, data.end - data.at)] : sized(reader, data, end)), made(found.index)];
  return { segments, done: found.done };
}

/** The share of a recording's data that must turn out to be pictures of the model's kind, beside the share they have in the model. */
const LEAST_SHARE = 0.25;
const MOVED = ["The index of the other recording fits these data: it was moved to where they stand and added."];

/** The other's index where the data stand here, if the pieces are what it says: both hold the same recording. */
function movedIndex(reader: BlockReader, data: Box, sibling: BlockReader, moov: Box, shift: number): Uint8Array | null {
  const end = Math.min(reader.size, data.end);
  for (const track of readTracks(sibling, moov))
    for (const { at, length } of trackSamples(sibling, track)) {
      if (at + shift < data.content || at + shift + length > end) return null;
      if (track.nalLength > 0 && brokenUnits(reader, at + shift, length, track.nalLength) >= 0) return null;
    }
  const index = sibling.bytes(moov.at, moov.end - moov.at).slice();
  for (const table of offsetTables(sibling, moov)) {
    for (let i = 0; i < table.count; i += 1) {
      const at = table.at - moov.at + i * table.bytes;
      const value = (table.bytes === 8 ? sibling.u64be(table.at + i * 8) : sibling.u32be(table.at + i * 4)) + shift;
      const out =
        table.bytes === 8 ? new BytesOut().u32be(Math.floor(value / 2 ** 32)).u32be(value % 2 ** 32) : new BytesOut().u32be(value);
      index.set(out.done(), at);
    }
  }
  return index;
}

/** An index of the pictures that are found in the data, with the other recording's settings. */
function madeIndex(
  reader: BlockReader,
  data: Box,
  sibling: BlockReader,
  moov: Box,
  modelData: Box,
): { index: Uint8Array; done: string[] } | null {
  const known = pictureTrack(sibling, moov);
  const model = known && pictureModel(sibling, known.track);
  if (!known || !model) return null;
  const { pictures, later, between } = findPictures(reader, model, data.content, Math.min(reader.size, data.end));
  // Where little of the data are such pictures, they were another recorder's.
  const length = bytesIn(pictures);
  const beside = bytesIn(between);
  const usual = Math.min(1, bytesIn(trackSamples(sibling, known.track)) / Math.max(1, modelData.end - modelData.content));
  if (!pictures.some(({ key }) => key) || length < LEAST_SHARE * usual * (length + beside)) return null;
  const track = soundTrack(sibling, moov, known.track);
  const pieces = track && soundPieces(track, between);
  const sound = track && pieces && { track, pieces };
  const done = [`An index of ${pictures.length} pictures was made, with the settings of the other recording.`];
  if (pieces) done.push(`The sound stands between the pictures, in ${pieces.length} pieces, and is not coded: it was taken in.`);
  else if (beside > 0) done.push(`${beside} bytes between them are left out: nothing tells where the pieces of the sound begin.`);
  if (model.order === null)
    done.push("The pictures are shown in the order in which they were recorded, which may not be quite the right one.");
  return { index: filmIndex(sibling, moov, known.track, { pictures, duration: known.duration, later, sound }), done };
}

function bytesIn(parts: Iterable<Sample>): number {
  let sum = 0;
  for (const { length } of parts) sum += length;
  return sum;
}

/**
 * The pieces of sound that is not coded: what stands between the pictures, if all of that can be sound. Damage among it would shift what
 * follows against the pictures.
 */
function soundPieces({ sampleSize, longest }: SoundTrack, between: readonly Sample[]): Sample[] | null {
  const whole = between.map(({ at, length }) => ({ at, length: length - (length % sampleSize) }));
  const sound = between.every(({ length }, i) => length <= LONGER * longest && (i === between.length - 1 || length % sampleSize === 0));
  return sound && whole.length > 0 ? whole.filter(({ length }) => length > 0) : null;
}
/** A recorder may write pieces so many times as long as in its other recording. */
const LONGER = 4;

function sized(reader: BlockReader, data: Box, end: number): Segment[] {
  const header = data.content - data.at;
  const length = end - data.at;
  const out =
    header === 16
      ? new BytesOut()
          .u32be(1)
          .text("mdat")
          .u32be(Math.floor(length / 2 ** 32))
          .u32be(length % 2 ** 32)
      : new BytesOut().u32be(length).text("mdat");
  return [made(out.done()), kept(data.content, Math.min(end, reader.size) - data.content)];
}

function topBoxes(reader: BlockReader): Box[] {
  const tops: Box[] = [];
  try {
    for (let at = 0; at + 8 <= reader.size; ) {
      const box = boxAt(reader, at);
      if (!box || !TOP_BOXES.has(box.type)) break;
      tops.push(box);
      at = box.end;
    }
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
  }
  return tops;
}

function* offsetTables(reader: BlockReader, moov: Box): Generator<{ at: number; count: number; bytes: 4 | 8 }, void, void> {
  for (const track of boxesIn(reader, moov.content + (HOLDERS.moov ?? 0), moov.end)) {
    if (track.type !== "trak" || !findBox(reader, track, "stbl")) continue;
    for (const [type, bytes] of [
      ["stco", 4],
      ["co64", 8],
    ] as const)
      for (const box of findBoxes(reader, track.content, track.end, type))
        yield { at: box.content + 8, count: reader.u32be(box.content + 4), bytes };
  }
}
