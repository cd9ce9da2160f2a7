import type { ByteSource } from "../bytes/byte-source";
import { ConcatSource } from "../bytes/concat-source";
import { Cursor } from "../bytes/cursor";
import { MediumReader, readBlock } from "../filesystems/tape/block";
import { TAPE } from "../filesystems/tape/layout";
import { mediumEnd } from "../filesystems/tape/medium-end";
import type { Container, Neighbours } from "./container";

/** Files beside a medium that are looked at for the others of its family. */
const MOST_BESIDE = 1_000;
const MOST_MEDIA = 1_000;

interface Medium {
  readonly family: number;
  /** Counts from 1. */
  readonly sequence: number;
  readonly source: ByteSource;
}

/**
 * Puts the media of one backup of the tape format together: the files beside the chosen one that bear the same family's number. null when the
 * chosen one is none, or is complete by itself.
 */
export function openTapeMedia(file: ByteSource, neighbours: Neighbours): Container | null {
  const own = mediumOf(file);
  if (!own || (own.sequence <= 1 && !mediumEnd(file).goesOn)) return null;
  const media = new Map([[own.sequence, own]]);
  const ending = endingOf(neighbours.name);
  const beside = neighbours.list().filter((name) => name !== neighbours.name && endingOf(name) === ending);
  for (const name of beside.slice(0, MOST_BESIDE)) {
    const source = neighbours.open(name);
    const medium = source && mediumOf(source);
    if (medium && medium.family === own.family && !media.has(medium.sequence)) media.set(medium.sequence, medium);
  }
  const notes: string[] = [];
  const from = own.sequence > 1 && media.has(own.sequence - 1) ? firstInRow(media, own.sequence) : own.sequence;
  const row: Medium[] = [];
  for (let sequence = from; row.length < MOST_MEDIA; sequence += 1) {
    const medium = media.get(sequence);
    if (!medium) break;
    row.push(medium);
  }
  const last = row.at(-1);
  if (from > 1) notes.push(MISSING(from - 1, "What it had begun goes on in this one."));
  if (last && mediumEnd(last.source).goesOn) notes.push(MISSING(last.sequence + 1, "The backup goes on in it."));
  const seams: number[] = [];
  for (let index = 1, at = 0; index < row.length; index += 1) {
    at += row[index - 1]?.source.size ?? 0;
    seams.push(at);
  }
  const whole = new ConcatSource(row.map(({ source }) => source));
  return { kind: "tape-media", form: null, disk: Object.assign(whole, { seams }), identity: null, created: null, notes };
}

const MISSING = (sequence: number, why: string) =>
  `Medium ${sequence} of this backup is not beside it. ${why} Put the file of that medium into the same folder, or give it along with this one.`;

const endingOf = (name: string) => name.slice(name.lastIndexOf(".") + 1).toLowerCase();

function firstInRow(media: ReadonlyMap<number, Medium>, from: number): number {
  let first = from;
  while (media.has(first - 1)) first -= 1;
  return first;
}

function mediumOf(source: ByteSource): Medium | null {
  const block = readBlock(new MediumReader(source), 0);
  if (block?.type !== "TAPE") return null;
  const { mediaFamilyId, mediaSequence } = TAPE.read(new Cursor(block.bytes), 0);
  return { family: mediaFamilyId, sequence: mediaSequence, source };
}
