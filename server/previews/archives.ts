import { ArchiveReader, libarchiveWasm } from "libarchive-wasm";
import type { Format } from "../../core/formats/format";
import { formatById, identify, runCheck } from "../../core/formats/registry";
import { traitsOf } from "../../core/formats/traits";
import { readZipDirectory } from "../../core/formats/zip/zip";
import type { StoredCopy } from "../items/queries";
import { wholeContent, withContent } from "./content";
import type { ArchivePreview } from "./contract";

const MAX_MEMBERS = 1000;
/** Members that are counted, and bytes of an archive that is listed while somebody waits. */
const MOST_COUNTED = 200_000;
const MAX_ARCHIVE = 1 << 27;
const COMPRESSED: ReadonlySet<string> = new Set(["gzip", "bzip2", "xz"]);

/** What is in an archive by its own list of contents, and where it is damaged. */
export async function archiveOf(copy: StoredCopy): Promise<ArchivePreview> {
  const format = await withContent(copy, (content) => identify(content, copy.name));
  return format && traitsOf(format).family !== "zip" ? otherArchive(copy, format) : zipArchive(copy);
}

async function zipArchive(copy: StoredCopy): Promise<ArchivePreview> {
  return withContent(copy, (content) => {
    const found = readZipDirectory(content);
    if (!Array.isArray(found)) return { members: [], count: 0, problem: found.verdict === "sound" ? null : found.reason };
    const verdict = runCheck(formatById.get("zip") as Format, content);
    return {
      members: found.slice(0, MAX_MEMBERS).map(({ name, plain, packed, encrypted }) => ({ name, size: plain, packed, encrypted })),
      count: found.length,
      problem: verdict.verdict === "sound" ? null : verdict.reason,
    };
  });
}

/** An archive of another kind, compressed ones too, as a general library lists it. */
async function otherArchive(copy: StoredCopy, format: Format): Promise<ArchivePreview> {
  const bytes = await wholeContent(copy, MAX_ARCHIVE, "archive");
  const single = /^(.*)\.(gz|bz2|xz)$/i.exec(copy.name)?.[1] ?? copy.name;
  const members: ArchivePreview["members"] = [];
  let count = 0;
  let problem: string | null = null;
  try {
    const reader = new ArchiveReader(await libarchiveWasm(), new Int8Array(bytes.buffer, bytes.byteOffset, bytes.length));
    for (const entry of reader.entries()) {
      count += 1;
      const name = entry.getPathname();
      if (members.length < MAX_MEMBERS && !name.endsWith("/"))
        members.push({ name, size: entry.getSize(), packed: null, encrypted: entry.isEncrypted() });
      if (count >= MOST_COUNTED) break;
    }
    reader.free();
  } catch (error) {
    problem =
      count === 0
        ? `Its list of contents cannot be read: ${(error as Error).message}`
        : `It is damaged behind what is listed: ${(error as Error).message}`;
  }
  // Compressed by itself, it holds one file, of which no list is kept.
  if (count === 0 && COMPRESSED.has(format.id))
    return { members: [{ name: single, size: null, packed: bytes.length, encrypted: false }], count: 1, problem: null };
  // A library that finds nothing says nothing either.
  if (count === 0) problem ??= "No list of contents can be read in it: it may be damaged, cut off, or of a kind that is not listed here.";
  return { members, count, problem };
}
