import type { Format } from "../../core/formats/format";
import { formatById, runCheck } from "../../core/formats/registry";
import { readZipDirectory } from "../../core/formats/zip/zip";
import type { StoredCopy } from "../items/queries";
import { withContent } from "./content";
import type { ArchivePreview } from "./contract";

const MAX_MEMBERS = 1000;

/** What is in a ZIP archive by its own list of contents, and where it is damaged. */
export async function archiveOf(copy: StoredCopy): Promise<ArchivePreview> {
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
