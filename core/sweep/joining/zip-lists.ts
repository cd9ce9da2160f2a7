import type { BlockReader } from "../../bytes/block-reader";
import { PastEnd } from "../../bytes/past-end";
import { END, LOCAL } from "../../formats/zip/layout";
import { directoryAt, localMember, type ZipDirectory, type ZipMember } from "../../formats/zip/members";
import type { PieceRoom } from "./pieces";
import { placesOf, type Surroundings } from "./surroundings";

/** Ends of archives that are looked at, headers of members, and members that are compared. */
const MOST_ENDS = 1000;
const MOST_HEADERS = 100_000;
const MOST_LOOKED_FOR = 256;

/** The end of an archive, by which its list of contents stands at `shift` plus its place in the archive; null: the list cannot be read there. */
export interface ZipEnd {
  readonly shift: number;
  readonly list: ZipDirectory | null;
}

/**
 * Finds the ends of archives (APPNOTE, 4.3.16) whose list names the members this one has up to where it breaks, and ends whose list is not there.
 * @param file the archive as far as it is known @param proven bytes of it before the member that is wrong
 */
export function* zipEnds(room: PieceRoom, around: Surroundings, file: BlockReader, proven: number): Generator<ZipEnd, void, void> {
  const first = localMember(file, 0);
  if (!first) return;
  const { reader, from } = around;
  for (const end of placesOf(room, reader, END.mark, MOST_ENDS)) {
    if (end + END.size > reader.size) return;
    const [size, listAt] = [reader.u32(end + END.directorySize), reader.u32(end + END.directoryAt)];
    if (size < 46 || end - size < 0) continue;
    const shift = from + end - size - listAt;
    const list = tryDirectory(reader, end - size);
    if (!list) {
      yield { shift, list };
      continue;
    }
    const [named] = list.members;
    if (named?.at !== 0 || named.name !== first.name) continue;
    if (first.sized && (named.crc !== first.crc || named.packed !== first.packed)) continue;
    const before = list.members.filter(({ at }) => at < proven).slice(0, MOST_LOOKED_FOR);
    if (before.every(({ at, name }) => localMember(file, at)?.name === name)) yield { shift, list };
  }
}

function tryDirectory(around: BlockReader, at: number): ZipDirectory | null {
  try {
    const directory = directoryAt(around, at);
    return "members" in directory ? directory : null;
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
    return null;
  }
}

/** Finds where headers of members stand around, by the members' names and checksums: disk offsets of each. */
export function memberPlaces(room: PieceRoom, { reader, from }: Surroundings, wanted: readonly ZipMember[]): Map<ZipMember, number[]> {
  const byName = new Map<string, ZipMember[]>();
  for (const member of wanted.slice(0, MOST_LOOKED_FOR)) byName.set(member.name, [...(byName.get(member.name) ?? []), member]);
  const places = new Map<ZipMember, number[]>();
  if (byName.size === 0) return places;
  for (const at of placesOf(room, reader, LOCAL.mark, MOST_HEADERS)) {
    if (at + LOCAL.size > reader.size) break;
    const length = reader.u16(at + LOCAL.nameLength);
    if (length > 1024 || at + LOCAL.size + length > reader.size) continue;
    const there = localMember(reader, at);
    for (const member of (there && byName.get(there.name)) ?? [])
      if (there && (!there.sized || there.crc === member.crc)) places.set(member, [...(places.get(member) ?? []), from + at]);
  }
  return places;
}

/** Where the archive's byte 0 would stand were all of it laid out from where a member stands: those most members agree on first. */
export function memberShifts(room: PieceRoom, around: Surroundings, members: readonly ZipMember[], file: BlockReader): number[] {
  const elsewhere = members.slice(0, MOST_LOOKED_FOR).filter(({ at, name }) => {
    const there = at + LOCAL.size < file.size ? localMember(file, at) : null;
    return there?.name !== name;
  });
  const counts = new Map<number, number>();
  for (const [member, all] of memberPlaces(room, around, elsewhere))
    for (const at of all) counts.set(at - member.at, (counts.get(at - member.at) ?? 0) + 1);
  return [...counts].sort((a, b) => b[1] - a[1]).map(([shift]) => shift);
}
