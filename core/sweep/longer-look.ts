import { WindowSource } from "../bytes/byte-source";
import type { RangeSet } from "../bytes/range-set";
import type { Format } from "../formats/format";
import { resolved, runFollow, runSummary } from "../formats/registry";
import type { Find } from "./find";
import { LONG } from "./joining/effort";
import { isOpen, joinPieces } from "./joining/join";
import { Allowance } from "./joining/pieces";
import { LayingError, type LayingRoom } from "./laid-file";

export interface LookingRoom extends LayingRoom {
  /** Where files stand that are proven: no other has a piece there. */
  readonly proven: RangeSet;
  /** Where files begin that are proven, or have an unmistakable mark. */
  readonly begins: readonly number[];
}

/**
 * Looks for the pieces of one file farther away, and with more tries, than a sweep does for each.
 * @param at disk byte offset of its first byte
 * @returns the file put together; null: nothing was found that fits, which does not say that there is nothing
 * @throws LayingError where there is nothing to look for
 */
export function lookLonger(room: LookingRoom, format: Format, at: number): Find | null {
  const { disk, grid } = room;
  const window = new WindowSource(disk, at, room.limitOf(at) - at);
  const extent = runFollow(format, window);
  if (!extent) throw new LayingError(`What stands there is no ${format.title}.`);
  const content = new WindowSource(disk, at, extent.size);
  const exact = resolved(format, content);
  const { size } = extent;
  const find: Find = {
    format: exact,
    at,
    size,
    segments: [{ at, length: size }],
    extent,
    summary: runSummary(exact, content),
    inside: null,
  };
  if (!isOpen(find))
    throw new LayingError(
      extent.verdict.verdict === "sound"
        ? "It is sound in one piece: no other one is missing."
        : `Pieces of a ${exact.title} are not looked for.`,
    );
  const clusterOf = (place: number) => Math.floor((place - grid.origin) / grid.cluster);
  const begun = new Set(room.begins.filter((place) => place !== at).map(clusterOf));
  return joinPieces(
    {
      ...grid,
      disk: new Allowance(disk, LONG.read),
      effort: LONG,
      limitOf: (place) => room.limitOf(place),
      freeFrom: (place, length) => (room.proven.within(place, place + length)[0]?.start ?? place + length) - place,
      beginsIn: (place) => begun.has(clusterOf(place)),
    },
    find,
  );
}
