import { createReadStream, lstatSync, realpathSync } from "node:fs";
import { basename } from "node:path";
import { Readable } from "node:stream";
import { pipeline } from "node:stream/promises";
import { and, eq } from "drizzle-orm";
import tar from "tar-stream";
import yazl from "yazl";
import type { Connection } from "../database/connection";
import { restoreResults, restores } from "../database/schema";
import { Problem } from "../problem";
import { attachment, downloadName } from "../respond";
import { destinationRoot, liesBelowDelivery } from "./delivery";
import { allResults } from "./queries";
import { lookAgain, stands } from "./since";

/** Only plain files that really lie below the delivery folder are given out. */
function isDelivered(path: string): boolean {
  const stats = lstatSync(path, { throwIfNoEntry: false });
  return stats?.isFile() === true && liesBelowDelivery(realpathSync(path));
}

const SINCE: Record<string, string> = {
  replaced: "A later restore replaced this file: download it from there.",
  changed: "This file was changed since it was restored: it is not what was verified.",
  gone: "This file is not in the delivery folder any more.",
};

/** One restored file as a download, as long as it is what was written. */
export async function fileOf(db: Connection, restoreId: number, resultId: number): Promise<Response> {
  const rows = await db
    .select()
    .from(restoreResults)
    .where(and(eq(restoreResults.restoreId, restoreId), eq(restoreResults.id, resultId)));
  const [found] = await lookAgain(db, rows);
  if (found?.since) throw new Problem(SINCE[found.since] as string, 404);
  if (!found?.output || !stands(found.state) || !isDelivered(found.output)) throw new Problem(SINCE.gone as string, 404);
  const body = Readable.toWeb(createReadStream(found.output)) as ReadableStream;
  return new Response(body, {
    headers: {
      "Content-Type": "application/octet-stream",
      "Content-Disposition": attachment(basename(found.output)),
      "Content-Length": String(lstatSync(found.output).size),
    },
  });
}

/** A file of a restore that stands as it was written, and its name in a download. */
interface DownloadedFile {
  readonly output: string;
  readonly name: string;
}

/** The files of a restore that stand as they were written. @param remarks is given a line for each that does not, or has gaps */
async function* standingFiles(
  db: Connection,
  restoreId: number,
  root: string,
  remarks: string[],
): AsyncGenerator<DownloadedFile, void, void> {
  for await (const result of allResults(db, restoreId)) {
    const { state, output, since, path } = result;
    if (!stands(state) || !output) remarks.push(`${path.slice(1)}: not restored. ${result.problem ?? ""}`);
    else if (since || !isDelivered(output)) remarks.push(`${path.slice(1)}: left out. ${SINCE[since ?? "gone"]}`);
    else {
      const name = output.slice(root.length + 1);
      if (result.gaps) remarks.push(`${name}: has gaps. ${result.problem ?? ""}`);
      yield { output, name };
    }
  }
}

const REMARKS = "Remarks.txt";
const toText = (remarks: readonly string[]) => Buffer.from(`${remarks.join("\r\n")}\r\n`);

/**
 * All files of a restore that stand as they were written, as one ZIP or TAR, made while it is sent. With those that have gaps a list of
 * them goes along, and of those that were replaced, changed or removed since. ZIPs grow past 4 GiB and 65,535 files (ZIP64).
 */
export async function archiveOf(db: Connection, restoreId: number, form: "zip" | "tar"): Promise<Response> {
  const [restore] = await db.select().from(restores).where(eq(restores.id, restoreId));
  if (!restore) throw new Problem("There is no such restore.", 404);
  const remarks: string[] = [];
  const files: DownloadedFile[] = [];
  for await (const file of standingFiles(db, restoreId, destinationRoot(restore), remarks)) files.push(file);
  if (files.length === 0) throw new Problem("There are no restored files to download.", 404);
  const out = form === "zip" ? zipStream(files, remarks) : tarStream(files, remarks);
  return new Response(Readable.toWeb(out) as ReadableStream, {
    headers: {
      "Content-Type": form === "zip" ? "application/zip" : "application/x-tar",
      "Content-Disposition": attachment(`${await downloadName(db, restore.jobId)}, ${restore.destination}.${form}`),
    },
  });
}

function zipStream(files: readonly DownloadedFile[], remarks: readonly string[]): Readable {
  const zip = new yazl.ZipFile();
  for (const { output, name } of files) zip.addFile(output, name, { forceZip64Format: false });
  if (remarks.length > 0) zip.addBuffer(toText(remarks), REMARKS);
  zip.end();
  // A file that goes away while it is sent must end the download with an error, and not leave it waiting.
  const out = zip.outputStream as Readable;
  zip.on("error", (error: Error) => out.destroy(error));
  return out;
}

/** Files one after the other; long names and large files get extended headers (POSIX.1-2001, pax). */
function tarStream(files: readonly DownloadedFile[], remarks: readonly string[]): Readable {
  const pack = tar.pack();
  const fill = async () => {
    for (const { output, name } of files) {
      const { size, mtime } = lstatSync(output);
      const entry = pack.entry({ name, size, mtime, mode: 0o644 });
      // A file that grew since is cut, and one that shrank ends the download with an error: the header has its size.
      if (size === 0) entry.end(undefined);
      else await pipeline(createReadStream(output, { end: size - 1 }), entry);
    }
    if (remarks.length > 0) pack.entry({ name: REMARKS }, toText(remarks));
    pack.finalize();
  };
  fill().catch((error: Error) => pack.destroy(error));
  return Readable.from(pack);
}
