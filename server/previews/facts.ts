import sharp from "sharp";
import { type ByteSource, readBytes } from "../../core/bytes/byte-source";
import type { Format } from "../../core/formats/format";
import { identify, runSummary } from "../../core/formats/registry";
import { traitsOf } from "../../core/formats/traits";
import { Database } from "../../core/records/sqlite/database";
import { looksLikeDisk } from "../../core/volumes/holds-disk";
import type { StoredCopy } from "../items/queries";
import { withContent } from "./content";
import type { PreviewFacts } from "./contract";
import { settingsForm } from "./settings";

/** A picture's size stands near its beginning. */
const HEAD = 1 << 18;
const MAX_PIXELS = 200_000_000;

/** Usual names of disk images, be they compressed as a whole (common practice, no published source): by hand they are opened also when their beginning is damaged. */
const DISK_NAME = /\.(img|ima|dd|raw|dsk|bin|vhdx?|dmg|sparseimage|0*1)(\.(gz|bz2|xz))?$/i;

/** Usual names of backup files, archives and compressed files (common practice, no published source), which are opened as stores also when their beginning is damaged. */
const ARCHIVE_NAME = /\.(bkf|zip|tar|tgz|tbz2?|txz|gz|bz2|xz)$/i;
/** Archives as such; documents that are built as one are none. */
const ARCHIVES: ReadonlySet<string> = new Set(["zip", "tar"]);
const isArchive = (format: Format | null, name: string) => ARCHIVES.has(format?.id ?? "") || ARCHIVE_NAME.test(name);

/** Usual names of databases (common practice, no published source): of these one is looked for also where the beginning is damaged. */
const DATABASE_NAME = /(\.(db|sqlite3?|storedata)|^[^.]+)$/i;

/** Text whose name says that it is a table. */
const separated = (name: string, format: string) =>
  (format === "text" || format === "csv" || format === "words") && /\.(csv|tsv)$/i.test(name);

/** Bytes of a beginning that say whether there is anything in it. */
const BEGINNING = 4096;
const beginsWithZeros = (content: ByteSource) => readBytes(content, 0, Math.min(BEGINNING, content.size)).every((byte) => byte === 0);

const nothing: PreviewFacts = {
  form: "hex",
  format: null,
  pixels: null,
  taken: null,
  camera: null,
  disk: false,
  records: false,
  settings: false,
  absent: null,
};

/** How a copy is best shown, by its content rather than by its name, and what a picture says of itself. */
export async function previewFacts(copy: StoredCopy): Promise<PreviewFacts> {
  if (!copy.layout || copy.size === 0) return { ...nothing, absent: copy.absent };
  return withContent(copy, async (content) => {
    const format = identify(content, copy.name);
    const disk = looksLikeDisk(content) || DISK_NAME.test(copy.name) || isArchive(format, copy.name);
    // One whose first page is gone begins with nothing that is known.
    const records = format ? format.id === "sqlite" : DATABASE_NAME.test(copy.name) && Database.open({ main: content }) !== null;
    if (!format) {
      const settings = settingsForm(undefined, copy.name, content.size) !== null && !beginsWithZeros(content);
      return { ...nothing, disk, records, settings };
    }
    const facts: PreviewFacts = {
      ...nothing,
      disk,
      records,
      settings: settingsForm(format.id, copy.name, content.size) !== null,
      form: separated(copy.name, format.id) ? "tables" : (traitsOf(format).shownAs ?? "hex"),
      format: format.title,
    };
    if (facts.form !== "picture") return facts;
    const { taken, camera } = runSummary(format, content);
    return {
      ...facts,
      taken: taken === undefined ? null : new Date(taken).toISOString().slice(0, 19).replace("T", " "),
      camera: camera ?? null,
      pixels: await pixelsOf(Buffer.from(readBytes(content, 0, Math.min(HEAD, content.size)))),
    };
  });
}

async function pixelsOf(head: Buffer): Promise<PreviewFacts["pixels"]> {
  const size = await sharp(head, { failOn: "none", limitInputPixels: MAX_PIXELS })
    .metadata()
    .catch(() => null);
  return size?.width && size.height ? { width: size.width, height: size.height } : null;
}
