import { type BlockReader, BreaksOff } from "../bytes/block-reader";
import type { Segment } from "../bytes/layout";
import { HOLDERS, TOP_BOXES } from "../formats/iso-media/box-names";
import { type Box, boxAt, boxesIn, findBox, findBoxes } from "../formats/iso-media/boxes";
import { brokenUnits, readTracks, trackSamples } from "../formats/iso-media/samples";
import { BytesOut } from "./bytes-out";
import { kept, made, type Repaired } from "./repaired";

/**
 * A recording whose index is missing: the index of a sound one by the same recorder is moved to where the data stand, if the
 * pieces then are what it says. It fits when both hold the same recording, as a copy or another version of it.
 */
export function repairFilm(reader: BlockReader, sibling: BlockReader | null): Repaired | null {
  const tops = topBoxes(reader);
  const data = tops.find(({ type }) => type === "mdat");
  if (!data || tops.some(({ type }) => type === "moov") || !sibling) return null;
  const model = topBoxes(sibling);
  const moov = model.find(({ type }) => type === "moov");
  const modelData = model.find(({ type }) => type === "mdat");
  if (!moov || !modelData) return null;
  const shift = data.content - modelData.content;
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
  const segments: Segment[] = [kept(0, data.at)];
  // The length of the data may never have been written.
  segments.push(...(data.toEnd || data.end > reader.size ? sized(reader, data, end) : [kept(data.at, data.end - data.at)]), made(index));
  return { segments, done: ["The index of the other recording fits these data: it was moved to where they stand and added."] };
}

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
    if (!(error instanceof BreaksOff)) throw error;
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
