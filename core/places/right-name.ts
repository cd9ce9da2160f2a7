import type { ByteSource } from "../bytes/byte-source";
import { extensionOf, FORMATS, identify } from "../formats/registry";
import { traitsOf } from "../formats/traits";
import { nameParts } from "./match";
import type { Naming } from "./rule";

/** The right name of a copy, and what its found name says besides. */
export interface RightName {
  readonly name: string;
  /** Without extension. */
  readonly stem: string;
  /** When the copy was made, by its name: UTC milliseconds as if the computer's local time were UTC. */
  readonly dated: number | null;
}

/** What a content is: its format, and the extension that fits it best (null: it says too little). */
export function extensionOfContent(content: ByteSource | null, hint = ""): { format: string; extension: string | null } | null {
  if (!content || content.size === 0) return null;
  const found = identify(content, hint);
  return found && { format: found.id, extension: traitsOf(found).tooGeneral ? null : (found.extensions[0] ?? null) };
}

/** Extensions that say a file is a working copy, and nothing of what it holds. */
const WORKING = new Set(["tmp", "temp", "$$$", "asd", "bak", "old", "chk"]);
const known = new Set(FORMATS.flatMap((format) => format.extensions));

/**
 * The name a copy should have, by its rule and its content. An extension is only ever taken from the content, or kept; a name
 * that the pattern does not fit stays as it is.
 */
export function rightName(found: string, naming: Naming, content: ByteSource | null): RightName {
  const groups = nameParts(found, naming.pattern);
  const whole = groups.name ?? groups.whole;
  const derived = (whole ?? groups.stem ?? found) + (groups.ext ?? "");
  const dated = dateIn(groups.date);
  const own = extensionOf(derived);
  const stem = own && (known.has(own) || WORKING.has(own)) ? derived.slice(0, -own.length - 1) : derived;
  const by = extensionOfContent(content, derived);
  const { extension } = naming;
  if (extension === "keep") return { name: derived, stem, dated };
  if (typeof extension === "object") {
    const fits = by?.format === extension.when;
    return { name: fits ? `${stem}.${extension.name}` : found, stem: fits ? stem : found, dated };
  }
  if (by && own) {
    // One that fits the content as well as any other stays: jpeg for jpg.
    const format = FORMATS.find((each) => each.id === by.format);
    if (format?.extensions.includes(own)) return { name: derived, stem, dated };
  }
  if (!by?.extension) return { name: derived, stem, dated };
  return { name: `${stem}.${by.extension}`, stem, dated };
}

function dateIn(text: string | undefined): number | null {
  const match = /^(\d{4})-(\d\d)-(\d\d)_(\d\d)(\d\d)(\d\d)$/.exec(text ?? "");
  if (!match) return null;
  const [year, month, day, hour, minute, second] = match.slice(1).map(Number) as [number, number, number, number, number, number];
  const time = Date.UTC(year, month - 1, day, hour, minute, second);
  return new Date(time).getUTCMonth() === month - 1 && hour < 24 && minute < 60 && second < 60 ? time : null;
}
