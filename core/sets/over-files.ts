import { diskRuns, type Layout, layoutOf, type Segment } from "../bytes/layout";
import type { FileRecord } from "../filesystems/file-record";
import type { PlaceInTree } from "./backup-set";

/** A file, or what is missing of one: so many bytes. */
interface Stretch {
  readonly size: number;
  readonly file: FileRecord | null;
}

/** The same segments, with every stored byte elsewhere. @param to where a byte that stood at `at` stands now */
function movedSegments(segments: readonly Segment[], to: (at: number) => number): Segment[] {
  return segments.map((segment): Segment => {
    if (segment.kind === "hole" || segment.kind === "lost") return segment;
    if (segment.kind === "disk" || segment.kind === "held") return { ...segment, at: to(segment.at) };
    return { ...segment, from: segment.from.map((run) => ({ ...run, at: to(run.at) })) };
  });
}

/** Segments over the bytes of a file, moved by so many bytes. */
export const shifted = (segments: readonly Segment[], by: number): Segment[] =>
  by === 0 ? [...segments] : movedSegments(segments, (at) => at + by);

/**
 * A content that stands in files of a folder, which has no disk of its own: its layout counts over the bytes of those files it leads into, one file
 * behind the other.
 * @param segments counted over all the files, one behind the other
 */
export function placeOverFiles(segments: readonly Segment[], size: number, files: readonly Stretch[]): PlaceInTree | null {
  const runs = segments.flatMap((segment) =>
    segment.kind === "coded" || segment.kind === "packed" ? segment.from : diskRuns({ size, segments: [segment] }),
  );
  const holders: FileRecord[] = [];
  /** Of each file that is kept: where it began among all, and where it begins among those kept. */
  const begins: { from: number; to: number }[] = [];
  let [all, kept] = [0, 0];
  for (const { size: length, file } of files) {
    const [start, end] = [all, all + length];
    all = end;
    if (!file || !runs.some((run) => run.at < end && run.at + run.length > start)) continue;
    holders.push(file);
    begins.push({ from: start, to: kept });
    kept += length;
  }
  const [first, ...further] = holders;
  if (!first) return null;
  const moved = movedSegments(segments, (at) => {
    const { from, to } = begins.findLast((begin) => begin.from <= at) ?? { from: 0, to: 0 };
    return at - from + to;
  });
  const layout: Layout = layoutOf(moved, size);
  return { layout, holder: first, further };
}
