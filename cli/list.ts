import type { Layout, Segment } from "../core/bytes/layout";
import type { Copy } from "../core/copies/copy";
import type { Options } from "./options";
import { copiesOf, line, stateFilter, withVolumes } from "./output";

/** `compass list`: a line a copy. */
export function list(positionals: readonly string[], options: Options): number {
  const wanted = stateFilter(options.state);
  return withVolumes(positionals, options, (source, chosen) => {
    for (const each of chosen) {
      for (const copy of copiesOf(each, source.disk, options)) {
        if (!wanted(copy) || (copy.system && !options.system)) continue;
        line(
          options.json,
          describe(each.report.volume, copy),
          `${copy.state}\t${copy.condition}\t${copy.size}\t${copy.path.normalize("NFC")}`,
        );
      }
    }
    return false;
  });
}

/** A copy as the contract of the command line has it. */
export function describe(volume: number, copy: Copy): Record<string, unknown> {
  return {
    volume,
    place: copy.place,
    state: copy.state,
    type: copy.type,
    path: copy.path.normalize("NFC"),
    size: copy.size,
    created: iso(copy.created),
    modified: iso(copy.modified),
    condition: copy.condition,
    survival: Math.round(copy.survival * 10_000) / 10_000,
    segments: copy.layout ? placedSegments(copy.layout) : [],
    ...(copy.deletedAt ? { deletedAt: iso(copy.deletedAt) } : {}),
    ...(copy.streams.length > 0 ? { streams: copy.streams.map(({ name, size }) => ({ name, size })) } : {}),
    ...(copy.links > 1 ? { links: copy.links } : {}),
    ...(copy.encrypted ? { encrypted: true } : {}),
    notes: copy.notes,
  };
}

/** The segments as the command line gives them: stretches of one run are one, whether or not a part of it is foreign now. */
function placedSegments(layout: Layout) {
  const found: ReturnType<typeof placed> = [];
  for (const segment of layout.segments.flatMap(placed)) {
    const last = found[found.length - 1];
    if (last && last.at !== null && last.at + last.length === segment.at && !last.coding && !segment.coding)
      found[found.length - 1] = { at: last.at, length: last.length + segment.length };
    else found.push(segment);
  }
  return found;
}

/** Where a segment's bytes stand on the disk; a hole has no place (null), coded bytes stand at several. */
function placed(segment: Segment): { at: number | null; length: number; coding?: string }[] {
  if (segment.kind === "disk" || segment.kind === "held") return [{ at: segment.at, length: segment.length }];
  if (segment.kind === "coded") return segment.from.map((run) => ({ ...run, coding: segment.coding }));
  return [{ at: null, length: segment.length }];
}

const iso = (time: number | null) => (time === null ? null : new Date(time).toISOString());
