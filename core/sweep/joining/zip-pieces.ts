import { BlockReader } from "../../bytes/block-reader";
import { WindowSource } from "../../bytes/byte-source";
import { behind, multiply } from "../../bytes/crc-arithmetic";
import { PastEnd } from "../../bytes/past-end";
import type { Extent, Format } from "../../formats/format";
import { examineContent } from "../../formats/registry";
import { METHOD } from "../../formats/zip/layout";
import { checkMember, localMember, type ZipDirectory, type ZipMember } from "../../formats/zip/members";
import { prefixes, runsWithin } from "./crc-runs";
import { type Laid, PartLayer } from "./part-layer";
import { charged, follow, type Joined, type PieceRoom, type Pieces, proves, UNSURE } from "./pieces";
import { surroundings } from "./surroundings";
import { memberPlaces, zipEnds } from "./zip-lists";

/** Lists of contents that are followed, and members of each. */
const MOST_LISTS = 4;
const MOST_MEMBERS = 4_000;
/** Plain bytes of one member that are unpacked. */
const MOST_UNPACKED = 1 << 26;

/**
 * Puts an archive together by its list of contents, member by member: where one is broken, the next piece is the one in which a later member, or the list,
 * stands, and the seam is where the member's checksum comes right. A stored member may have a whole piece within it: as a CRC is linear, all clusters around are
 * tried for it. @returns null when that is not enough
 */
export function joinZip(room: PieceRoom, format: Format, first: Pieces, { proven = 0 }: Extent): Joined | null {
  try {
    let lists = 0;
    for (const { shift, list } of zipEnds(room, surroundings(room, first.begins), new BlockReader(first.source()), proven)) {
      if (!list || list.members.length > MOST_MEMBERS) continue;
      const laid = new ZipLayer(room, list, shift).layOut(first);
      const followed = laid && follow(room, format, laid.pieces);
      if (laid && followed && proves(followed, laid.pieces.from))
        return { pieces: laid.pieces, extent: laid.isCertain ? followed : { ...followed, verdict: UNSURE } };
      lists += 1;
      if (lists >= MOST_LISTS || room.disk.isSpent) return null;
    }
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
  }
  return null;
}

class ZipLayer extends PartLayer<ZipMember> {
  constructor(room: PieceRoom, { members, statedAt }: ZipDirectory, shift: number) {
    const parts = [...members].sort((a, b) => a.at - b.at);
    super(room, parts, memberPlaces(room, surroundings(room, shift + statedAt), parts), statedAt, shift);
  }

  /** Its checksum is over the data alone: in a header with a long extra field, and between members, other clusters would pass as well. */
  protected isProof(pieces: Pieces, index: number, before: number): boolean {
    const { at, method, encrypted } = this.parts[index] as ZipMember;
    if (encrypted || (method !== METHOD.stored && method !== METHOD.deflated)) return false;
    const dataAt = localMember(new BlockReader(pieces.source()), at)?.dataAt;
    return dataAt !== undefined && (pieces.from > dataAt || dataAt - before < this.room.cluster);
  }

  protected stands(pieces: Pieces, index: number): boolean {
    const member = this.parts[index] as ZipMember;
    const reader = new BlockReader(pieces.source());
    try {
      const there = localMember(reader, member.at);
      if (there?.name !== member.name || (there.sized && there.crc !== member.crc)) return false;
      const { verdict } = checkMember(reader, { ...member, dataAt: there.dataAt }, true, MOST_UNPACKED);
      if (verdict.verdict === "sound") return true;
      // What cannot be checked stands where the next one does.
      const next = this.parts[index + 1];
      return verdict.verdict === "cannot-tell" && next !== undefined && localMember(reader, next.at)?.name === next.name;
    } catch (error) {
      if (!(error instanceof PastEnd)) throw error;
      return false;
    }
  }

  protected endOf(pieces: Pieces, index: number): number {
    const member = this.parts[index] as ZipMember;
    return (localMember(new BlockReader(pieces.source()), member.at)?.dataAt ?? member.at) + member.packed;
  }

  /** The breaks worth a try: of a stored member those at which its checksum comes right, else all. */
  protected override likelyBreaks(pieces: Pieces, index: number, shift: number, breaks: readonly number[]): readonly number[] {
    const stored = this.#stored(pieces, index);
    if (!stored) return breaks;
    const { dataAt, end, crc } = stored;
    const inside = breaks.filter((length) => length > dataAt && length < end);
    const here = prefixes(this.room, pieces.lastAt - pieces.from, dataAt, [...inside, end]);
    const there = prefixes(this.room, shift, dataAt, [...inside, end]);
    const all = there[inside.length] as number;
    const right = inside.filter(
      (length, i) => (all ^ multiply(behind(end - length), ((here[i] as number) ^ (there[i] as number)) >>> 0)) >>> 0 === crc,
    );
    return [...right, ...breaks.filter((length) => length <= dataAt || length >= end)];
  }

  /** Where the data of a member are that is not packed, by its header; null: it is packed, or its header is not there. */
  #stored(pieces: Pieces, index: number): { dataAt: number; end: number; crc: number } | null {
    const member = this.parts[index] as ZipMember;
    if (member.method !== METHOD.stored || member.encrypted || member.packed > MOST_UNPACKED) return null;
    const there = localMember(new BlockReader(pieces.source()), member.at);
    return there?.name === member.name ? { dataAt: there.dataAt, end: there.dataAt + member.packed, crc: member.crc } : null;
  }

  /** A whole piece within one stored member, by its checksum. */
  protected override within(pieces: Pieces, index: number, breaks: readonly number[], shifts: readonly number[]): Laid | null {
    const stored = this.#stored(pieces, index);
    if (!stored) return null;
    const inside = breaks.filter((length) => length > stored.dataAt && length < stored.end);
    for (const shift of shifts)
      for (const { begins, next, ends, isCertain } of runsWithin(this.room, pieces, { ...stored, from: stored.dataAt, shift, inside })) {
        const middle = this.joined(pieces, begins, next - begins);
        const longer = middle && this.joined(middle, ends, shift);
        if (
          longer &&
          charged(this.room, () => this.stands(longer, index)) &&
          isSoundInside(longer, this.parts[index] as ZipMember, stored.dataAt)
        )
          return { pieces: longer, isCertain };
      }
    return null;
  }
}

/** Whether what a stored member holds is not damaged, where its kind has a check. */
function isSoundInside(pieces: Pieces, { name, packed }: ZipMember, dataAt: number): boolean {
  return examineContent(new WindowSource(pieces.source(), dataAt, packed), name).finding !== "damaged";
}
