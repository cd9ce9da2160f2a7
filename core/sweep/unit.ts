import type { Range } from "../bytes/range-set";
import type { Format } from "../formats/format";
import { traitsOf } from "../formats/traits";
import { examine, type Room } from "./examine";
import { type Find, isClosed } from "./find";
import { AHEAD, BLOCK, SECTOR } from "./mark-search";
import { type Candidate, SignatureIndex } from "./signature-index";

export interface SweepOptions {
  readonly everyByte: boolean;
  /** Which formats are looked for; null: all. */
  readonly formats: readonly string[] | null;
}

/** Looks through one stretch after the other. What it finds in a stretch depends on nothing but the stretch. */
export class UnitScanner {
  readonly #index: SignatureIndex;

  constructor(
    private readonly room: Room,
    private readonly options: SweepOptions,
  ) {
    const { formats } = options;
    const wanted = formats === null ? () => true : (format: Format) => formats.includes(format.id) || isOfFamily(format, formats);
    this.#index = new SignatureIndex(wanted);
  }

  /** The files that begin in the stretch, in their order; those in others too, for the reader to tie them together. */
  scan({ start, end }: Range): Find[] {
    const finds: Find[] = [];
    const { disk } = this.room;
    // Behind a file that was followed to its end nothing weak is looked at: a long recording is full of false beginnings.
    let covered: Find | null = null;
    for (let at = start; at < end; at += BLOCK) {
      const length = Math.min(BLOCK, end - at);
      this.#index.take(Math.min(length + AHEAD, Math.max(length, this.room.limitOf(at) - at)), (into) => disk.read(at, into));
      for (const candidate of this.#candidates(length, at)) {
        const place = at + candidate.at;
        if (covered && place < covered.at + covered.size && !isNestable(candidate) && !mayBeCut(covered, place, candidate)) continue;
        if (finds.some((find) => find.at === place)) continue;
        const find = examine(this.room, place, candidate);
        if (!find) continue;
        finds.push(find);
        if (isClosed(find) && (!covered || place + find.size > covered.at + covered.size)) covered = find;
      }
    }
    return finds.sort((a, b) => a.at - b.at);
  }

  /** In the order of their places. */
  #candidates(length: number, at: number): Candidate[] {
    if (at % SECTOR !== 0) return [];
    const sectors = this.#index.atSectors(length, at, () => this.#textBefore(at));
    if (!this.options.everyByte) return sectors;
    return [...sectors, ...this.#index.anywhere(length)].sort((a, b) => a.at - b.at);
  }

  #textBefore(at: number): boolean {
    if (this.room.limitOf(at - 1) <= at - 1) return false;
    const before = new Uint8Array(16);
    this.room.disk.read(Math.max(0, at - before.length), before);
    return before.every((byte) => byte >= 32 || byte === 9 || byte === 10 || byte === 13);
  }
}

/** Formats of one family begin alike: the one asked for may be known only by what is inside. */
function isOfFamily(format: Format, wanted: readonly string[]): boolean {
  const { family } = traitsOf(format);
  return format.resolve !== undefined && family !== undefined && wanted.some((id) => traitsOf({ id }).family === family);
}

/** Whether a file may have been cut where another begins: one that closes over any bytes, at a sector. */
const mayBeCut = ({ format }: Find, place: number, { formats }: Candidate) =>
  format.loose === true && place % SECTOR === 0 && formats.length > 0;

/** Whether a file of this kind inside another is worth reporting: pictures, documents, archives; not stretches of text or sound. */
function isNestable({ formats }: Candidate): boolean {
  return formats.some((format) => traitsOf(format).worthInside || format.kind === "pictures");
}
