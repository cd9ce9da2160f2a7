import { FILE_MARK } from "../core/bytes/file-marks";
import type { Layout } from "../core/bytes/layout";
import type { Copy } from "../core/copies/copy";
import { copiesOf, stateFilter, withChosen } from "./chosen";
import { isoText } from "./iso-text";
import type { Options } from "./options";
import { line } from "./output";

/** `compass list`: a line a copy. */
export function list(positionals: readonly string[], options: Options): number {
  const wanted = stateFilter(options.state);
  return withChosen(positionals, options, (chosen) => {
    const store = options["as-of"] === undefined ? {} : { store: chosen.store?.id };
    for (const { copy } of copiesOf(chosen, options)) {
      if (!wanted(copy) || (copy.system && !options.system)) continue;
      if (options.json) line(true, { ...store, ...describe(chosen.number, copy) }, "");
      else line(false, null, `${copy.state}\t${copy.condition}\t${copy.size}\t${copy.path.normalize("NFC")}`);
    }
    return false;
  });
}

/** A copy as the contract of the command line has it. */
export function describe(volume: number, copy: Copy): Record<string, unknown> {
  // Field by field: spreading costs more than all the rest, and copies come by the million.
  const described: Record<string, unknown> = {
    volume,
    place: copy.place,
    state: copy.state,
    type: copy.type,
    path: copy.path.normalize("NFC"),
    size: copy.size,
    created: isoText(copy.created),
    modified: isoText(copy.modified),
    condition: copy.condition,
    survival: Math.round(copy.survival * 10_000) / 10_000,
    segments: copy.layout ? placedSegments(copy.layout) : [],
  };
  if (copy.deletedAt) described.deletedAt = isoText(copy.deletedAt);
  if (copy.marks) described.marks = markNames(copy.marks);
  if (copy.streams.length > 0) described.streams = copy.streams.map(({ name, size }) => ({ name, size }));
  if (copy.backup) {
    described.set = copy.backup.set;
    described.asOf = isoText(copy.backup.asOf);
  }
  if (copy.links > 1) described.links = copy.links;
  if (copy.absent) described.absent = copy.absent;
  if (copy.absent === "encrypted") described.encrypted = true;
  described.notes = copy.notes;
  return described;
}

const markNames = (marks: number): string[] => [
  ...((marks & FILE_MARK.readOnly) !== 0 ? ["read-only"] : []),
  ...((marks & FILE_MARK.hidden) !== 0 ? ["hidden"] : []),
];

interface Placed {
  at: number | null;
  length: number;
  coding?: string;
}

/** The segments as the command line gives them: stretches of one run are one, whether or not a part of it is foreign now. */
function placedSegments({ segments }: Layout): Placed[] {
  const found: Placed[] = [];
  for (const segment of segments) {
    if (segment.kind === "coded") for (const run of segment.from) found.push({ at: run.at, length: run.length, coding: segment.coding });
    else if (segment.kind === "packed") found.push({ at: null, length: segment.length, coding: "packed" });
    else {
      // A hole has no place; coded bytes stand at several.
      const at = segment.kind === "disk" || segment.kind === "held" ? segment.at : null;
      const last = found[found.length - 1];
      if (last && last.at !== null && last.at + last.length === at && !last.coding) last.length += segment.length;
      else found.push({ at, length: segment.length });
    }
  }
  return found;
}
