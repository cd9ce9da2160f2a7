import { layoutOf } from "../bytes/layout";
import { type Copy, conditionOf, type Evidence } from "../copies/copy";
import { type CopyFacts, factsOf } from "../copies/facts";
import type { Laid } from "../copies/vocabulary";
import { ALL_BYTES_THERE } from "../filesystems/file-record";
import type { ContentFinding } from "../formats/registry";
import { type Find, isProven, isWhole } from "./find";
import { findName } from "./find-name";

export const rawReference = (at: number) => `raw content at ${at}`;

/**
 * A find as a copy.
 * @param used whether its first byte stands in a cluster that the file system has in use @param laid how its pieces were found, if not by a sweep
 */
export function rawCopy(find: Find, unreadable: number, used: boolean, laid?: Laid): Copy {
  const { summary, size } = find;
  const name = findName(find);
  const layout = layoutOf(
    find.segments.map((run) => ({ kind: "disk", ...run })),
    size,
  );
  const evidence: Evidence = { ...ALL_BYTES_THERE, unreadable, content: contentFinding(find), ...(laid ? { laid } : {}) };
  const state = used ? "live" : "deleted";
  const { condition, survival } = conditionOf({ type: "file", size, state, layout }, evidence, true);
  const facts: CopyFacts = { ...factsOf(summary), ...(find.inside === null ? {} : { inside: rawReference(find.inside) }) };
  return {
    place: "raw",
    reference: rawReference(find.at),
    state,
    type: "file",
    path: `/?/${name}`,
    name,
    rawName: new TextEncoder().encode(name),
    size,
    created: null,
    modified: summary.taken ?? summary.dated ?? null,
    changed: null,
    layout,
    system: false,
    streams: [],
    links: 1,
    file: null,
    condition: isWhole(find) || condition !== "whole" ? condition : "not-checked",
    survival,
    evidence,
    notes: notesOf(find),
    facts,
  };
}

/** What following its content says of a find. */
export function contentFinding(find: Find): ContentFinding {
  const {
    extent: { verdict, expected },
    format,
    size,
  } = find;
  if (verdict.verdict === "damaged") {
    const more = expected && expected > size ? { expected: Math.round(expected) } : {};
    return { finding: "damaged", format: format.id, at: verdict.at, reason: verdict.reason, ...more };
  }
  return { finding: "agrees", format: format.id, checked: isWhole(find) };
}

function notesOf(find: Find): string[] {
  const { format, extent, segments, inside } = find;
  const { verdict } = extent;
  const notes: string[] = [];
  if (verdict.verdict === "damaged") notes.push(`The content is damaged at byte ${verdict.at}: ${verdict.reason}.`);
  if (verdict.verdict === "cannot-tell") notes.push(`Followed as a ${format.title}; ${verdict.reason}.`);
  else if (verdict.verdict === "sound" && format.loose)
    notes.push(`Followed as a ${format.title} to its end; other bytes in it would go unnoticed.`);
  if (isProven(find) && !isWhole(find))
    notes.push(`${extent.unfollowed} bytes in it are checked by nothing: other bytes in their place would go unnoticed.`);
  if (segments.length > 1)
    notes.push(`Put together from ${segments.length} pieces: ${segments.map(({ at, length }) => `${length} bytes at ${at}`).join(", ")}.`);
  if (inside !== null) notes.push(`It stands inside another file, which was found at ${inside}.`);
  return notes;
}
