import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { type Layout, LayoutSource, layoutOf } from "../bytes/layout";
import type { Format, Verdict } from "../formats/format";
import { runReader } from "../formats/reader-faults";
import { formatById, identify, runCheck } from "../formats/registry";
import { traitsOf } from "../formats/traits";
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
  /** Where its bytes stand: "disk" stretches are places in the damaged file. */
  readonly layout: Layout;
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
  mp4: repairFilm,
  mov: repairFilm,
  m4a: repairFilm,
  "3gp": repairFilm,
};
/** Of families whose files are all repaired alike. */
const FAMILY_REPAIRERS: Readonly<Record<string, Repairer>> = { zip: repairZip };
const repairerOf = (format: Format): Repairer | undefined => REPAIRERS[format.id] ?? FAMILY_REPAIRERS[traitsOf(format).family ?? ""];

/** Whether files of a format can be repaired at all. */
export const canRepair = (format: Format) => repairerOf(format) !== undefined;
/** Whether a sound file of the same camera or recorder helps. */
export const likesSibling = (format: Format) => traitsOf(format).likesSibling === true;

/**
 * Repairs a damaged file as far as that is possible.
 * @param name its name, for what its content no longer shows
 * @param sibling a sound file of the same camera or recorder
 * @returns null when it is sound, of a type that is not repaired, or nothing of it can be saved
 */
export function repair(damaged: ByteSource, name: string, sibling: ByteSource | null = null): RepairedFile | null {
  const format = formatOf(damaged, name, sibling);
  const repairer = format && repairerOf(format);
  if (!repairer) return null;
  const before = runCheck(format, damaged);
  if (before.verdict === "sound") return null;
  const repaired = attempt(repairer, damaged, sibling);
  if (!repaired) return null;
  const size = repaired.segments.reduce((sum, { length }) => sum + length, 0);
  const layout = layoutOf(repaired.segments, size);
  const content = new LayoutSource(damaged, layout);
  const after = repaired.extension ? UNPACKED : runCheck(format, content);
  return { format, content, layout, done: repaired.done, extension: repaired.extension ?? null, before, after };
}

const UNPACKED: Verdict = { verdict: "cannot-tell", reason: "what was packed is whatever it was" };

/** What a file without its beginning is, its name or its sibling says. */
function formatOf(damaged: ByteSource, name: string, sibling: ByteSource | null): Format | null {
  const found = identify(damaged, name);
  if (found && canRepair(found)) return found;
  const extension = name.slice(name.lastIndexOf(".") + 1).toLowerCase();
  const named = [...formatById.values()].find((each) => canRepair(each) && each.extensions.includes(extension));
  return named ?? (sibling ? identify(sibling) : null);
}

const attempt = (repairer: Repairer, damaged: ByteSource, sibling: ByteSource | null): Repaired | null =>
  runReader(
    "repair",
    () => repairer(new BlockReader(damaged), sibling && new BlockReader(sibling)),
    () => null,
    null,
  );
