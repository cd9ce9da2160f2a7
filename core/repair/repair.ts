import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { LayoutSource, layoutOf } from "../bytes/layout";
import type { Format, Verdict } from "../formats/format";
import { runReader } from "../formats/reader-faults";
import { formatById, identify, runCheck } from "../formats/registry";
import { repairFilm } from "./film-repair";
import { repairGzip } from "./gzip-repair";
import { repairJpeg } from "./jpeg-repair";
import { repairPdf } from "./pdf-repair";
import { repairPng } from "./png-repair";
import type { Repaired, Repairer } from "./repaired";
import { repairDatabase } from "./sqlite-repair";
import { repairTar } from "./tar-repair";
import { repairZip } from "./zip-repair";

export interface RepairedFile {
  readonly format: Format;
  readonly content: ByteSource;
  readonly done: readonly string[];
  readonly extension: string | null;
  readonly before: Verdict;
  readonly after: Verdict;
}

const REPAIRERS: Readonly<Record<string, Repairer>> = {
  jpeg: repairJpeg,
  png: repairPng,
  pdf: repairPdf,
  sqlite: repairDatabase,
  gzip: repairGzip,
  tar: repairTar,
  ...Object.fromEntries(
    ["odt", "ods", "odp", "odg", "epub", "docx", "xlsx", "pptx", "pages", "numbers", "keynote", "zip"].map((id) => [id, repairZip]),
  ),
  ...Object.fromEntries(["mp4", "mov", "m4a", "3gp"].map((id) => [id, repairFilm])),
};

/** Whether files of a format can be repaired at all. */
export const canRepair = (format: Format) => format.id in REPAIRERS;
/** Whether a sound file of the same camera or recorder helps. */
export const likesSibling = (format: Format) => ["jpeg", "mp4", "mov", "m4a", "3gp"].includes(format.id);

/**
 * Repairs a damaged file as far as that is possible.
 * @param name its name, for what its content no longer shows
 * @param sibling a sound file of the same camera or recorder
 * @returns null when it is sound, of a type that is not repaired, or nothing of it can be saved
 */
export function repair(damaged: ByteSource, name: string, sibling: ByteSource | null = null): RepairedFile | null {
  const format = formatOf(damaged, name, sibling);
  const repairer = format && REPAIRERS[format.id];
  if (!repairer) return null;
  const before = runCheck(format, damaged);
  if (before.verdict === "sound") return null;
  const repaired = attempt(repairer, damaged, sibling);
  if (!repaired) return null;
  const size = repaired.segments.reduce((sum, { length }) => sum + length, 0);
  const content = new LayoutSource(damaged, layoutOf(repaired.segments, size));
  const after = repaired.extension ? UNPACKED : runCheck(format, content);
  return { format, content, done: repaired.done, extension: repaired.extension ?? null, before, after };
}

const UNPACKED: Verdict = { verdict: "cannot-tell", reason: "what was packed is whatever it was" };

/** What a file without its beginning is, its name or its sibling says. */
function formatOf(damaged: ByteSource, name: string, sibling: ByteSource | null): Format | null {
  const found = identify(damaged, name);
  if (found && found.id in REPAIRERS) return found;
  const extension = name.slice(name.lastIndexOf(".") + 1).toLowerCase();
  const named = [...formatById.values()].find(({ id, extensions }) => id in REPAIRERS && extensions.includes(extension));
  return named ?? (sibling ? identify(sibling) : null);
}

const attempt = (repairer: Repairer, damaged: ByteSource, sibling: ByteSource | null): Repaired | null =>
  runReader(
    "repair",
    () => repairer(new BlockReader(damaged), sibling && new BlockReader(sibling)),
    () => null,
    null,
  );
