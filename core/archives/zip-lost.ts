import type { BlockReader } from "../bytes/block-reader";
import { canBeginBlock } from "../bytes/inflate";
import type { Range, RangeSet } from "../bytes/range-set";
import { CENTRAL, LOCAL, METHOD } from "../formats/zip/layout";
import { descriptorEnd } from "../formats/zip/members";
import { decodeMember, isRead } from "./zip-codings";
import type { SalvagedMember } from "./zip-judge";
import type { CentralEntry, ListedPlaces } from "./zip-lists";

/** Bytes behind a member's data that its descriptor may take (4.3.9): none, with or without its mark, sizes of 32 or 64 bits. */
const DESCRIPTOR_SIZES = [0, 16, 12, 24, 20];
/** Ends of stretches before which a member is looked for. */
const MOST_ENDS = 64;
/** Bytes of a stretch without headers in which packed data may begin at any. */
const MOST_OF_A_GAP = 1 << 20;
/** Fewer plain bytes than this prove nothing. */
const FEWEST_PLAIN = 16;
/** Shorter stretches hold nothing that could be told from chance. */
export const SHORTEST_GAP = 20;

/** Looks for the data of a member whose header is gone: where the list says, where such a header would end, and before what comes next. */
export function searchData(
  reader: BlockReader,
  entry: CentralEntry,
  places: ListedPlaces,
  { used, claimed }: { readonly used: RangeSet; readonly claimed: RangeSet },
  part: Range,
): { found: SalvagedMember | null; cost: number } {
  let cost = 0;
  if (entry.encrypted || !isRead(entry.method) || entry.plain === 0 || entry.name.endsWith("/")) return { found: null, cost };
  const fits = (from: number) => {
    if (from < part.start || from + entry.packed > reader.size || used.overlap(from, from + entry.packed) > 0) return null;
    const decoded = decodeMember(
      reader,
      entry.method,
      from,
      entry.method === METHOD.stored ? from + entry.packed : reader.size,
      entry.plain,
    );
    cost += decoded.present + 1024;
    return decoded.end !== null && decoded.crc === entry.crc && decoded.present === entry.plain
      ? ({
          member: entry,
          dataAt: from,
          packed: entry.packed,
          plain: entry.plain,
          checksum: "agrees",
          present: entry.plain,
          by: "list",
        } as const)
      : null;
  };
  const near = places.placeOf(entry) + places.shiftNear(entry.at) + LOCAL.size + entry.raw.length;
  const within = { start: part.start, end: Math.min(part.end, reader.size) };
  const gaps = [used, claimed].flatMap((each) => each.gapsNear(near, within, entry.packed, MOST_ENDS));
  const ends = [...new Set(gaps.map(({ end }) => end))];
  const byEnd = ends.flatMap((end) => DESCRIPTOR_SIZES.map((size) => end - size - entry.packed));
  for (const from of [...byEnd].sort((a, b) => Math.abs(a - near) - Math.abs(b - near)).slice(0, MOST_ENDS)) {
    const found = fits(from);
    if (found) return { found, cost };
  }
  // The extra fields of a header are seldom longer than these.
  for (const shift of [places.shiftNear(entry.at), ...places.shifts].slice(0, 8)) {
    const first = places.placeOf(entry) + shift + LOCAL.size + entry.raw.length;
    for (let extra = 0; extra <= 64; extra += 1) {
      const found = fits(first + extra);
      if (found) return { found, cost };
    }
  }
  return { found: null, cost };
}

/** Deflated data in a stretch without any header, as long as they end just before it does, or before a descriptor that agrees. */
export function namelessIn(reader: BlockReader, gap: Range): { found: SalvagedMember[]; cost: number } {
  const found: SalvagedMember[] = [];
  let cost = 0;
  const end = Math.min(gap.end, gap.start + MOST_OF_A_GAP);
  for (let at = gap.start; at < end; at += 1) {
    const head = reader.bytes(at, Math.min(80, reader.size - at));
    if (!mayBeginDeflate(head)) continue;
    const decoded = decodeMember(reader, METHOD.deflated, at, gap.end, -1);
    cost += decoded.present + 64;
    if (decoded.end === null || decoded.present < FEWEST_PLAIN) continue;
    const packed = decoded.end - at;
    const described =
      descriptorEnd(reader, { verdict: { verdict: "sound" }, end: decoded.end, packed, plain: decoded.present, crc: decoded.crc }) >= 0;
    if (!described && decoded.end !== gap.end && !reader.has(decoded.end, LOCAL.mark) && !reader.has(decoded.end, CENTRAL.mark)) continue;
    found.push({
      member: null,
      dataAt: at,
      packed,
      plain: decoded.present,
      checksum: described ? "agrees" : "none",
      present: decoded.present,
      by: "data",
    });
    at = decoded.end - 1;
  }
  return { found, cost };
}

/** What stands in a stretch without any header and is no packed data: it may be a member kept as it is, with more before it. */
export function* remainsIn(reader: BlockReader, { start, end }: Range): Generator<SalvagedMember, void, void> {
  let first = start;
  for (const { at, bytes } of reader.blocks(start, end)) {
    const inside = bytes.findIndex((byte) => byte !== 0);
    first = inside < 0 ? at + bytes.length : at + inside;
    if (inside >= 0) break;
  }
  const length = end - first;
  if (length < FEWEST_PLAIN + LOCAL.size) return;
  yield { member: null, dataAt: first, packed: length, plain: length, checksum: "none", present: length, by: "bytes" };
}

/** Whether a block with codes of its own may begin with these bytes: nearly all packed data of some length begin with one. */
const mayBeginDeflate = (bytes: Uint8Array): boolean => bytes.length > 20 && canBeginBlock(bytes, 0);
