import { createReadStream, lstatSync, realpathSync } from "node:fs";
import { basename } from "node:path";
import { Readable } from "node:stream";
import { and, eq } from "drizzle-orm";
import yazl from "yazl";
import type { Connection } from "../database/connection";
import { restoreResults, restores } from "../database/schema";
import { Problem } from "../problem";
import { attachment, downloadName } from "../respond";
import { readSettings } from "../settings";
import { liesWithin } from "../sources/source-folders";
import { destinationRoot } from "./delivery";
import { allResults } from "./queries";
import { lookAgain } from "./since";

/** Only plain files that really lie below the delivery folder are given out. */
function isDelivered(path: string): boolean {
  const stats = lstatSync(path, { throwIfNoEntry: false });
  return stats?.isFile() === true && liesWithin(realpathSync(path), realpathSync(readSettings().COMPASS_DELIVERY));
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
  if (!found?.output || (found.state !== "verified" && found.state !== "gaps") || !isDelivered(found.output))
    throw new Problem(SINCE.gone as string, 404);
  const body = Readable.toWeb(createReadStream(found.output)) as ReadableStream;
  return new Response(body, {
    headers: {
      "Content-Type": "application/octet-stream",
      "Content-Disposition": attachment(basename(found.output)),
      "Content-Length": String(lstatSync(found.output).size),
    },
  });
}

/**
 * All files of a restore that stand as they were written, as one ZIP, made while it is sent. With those that have gaps a list of them goes
 * along, and of those that were replaced, changed or removed since.
 */
export async function zipOf(db: Connection, restoreId: number): Promise<Response> {
  const [restore] = await db.select().from(restores).where(eq(restores.id, restoreId));
  if (!restore) throw new Problem("There is no such restore.", 404);
  const root = destinationRoot(restore.destination);
  const zip = new yazl.ZipFile();
  const remarks: string[] = [];
  let files = 0;
  for await (const result of allResults(db, restoreId)) {
    const { state, output, since, path } = result;
    if ((state !== "verified" && state !== "gaps") || !output) {
      remarks.push(`${path.slice(1)}: not restored. ${result.problem ?? ""}`);
      continue;
    }
    if (since || !isDelivered(output)) {
      remarks.push(`${path.slice(1)}: left out. ${SINCE[since ?? "gone"]}`);
      continue;
    }
    const name = output.slice(root.length + 1);
    if (state === "gaps") remarks.push(`${name}: has gaps. ${result.problem ?? ""}`);
    zip.addFile(output, name, { forceZip64Format: false });
    files += 1;
  }
  if (files === 0) throw new Problem("There are no restored files to download.", 404);
  if (remarks.length > 0) zip.addBuffer(Buffer.from(`${remarks.join("\r\n")}\r\n`), "Remarks.txt");
  zip.end();
  // A file that goes away while it is sent must end the download with an error, and not leave it waiting.
  const out = zip.outputStream as Readable;
  zip.on("error", (error: Error) => out.destroy(error));
  return new Response(Readable.toWeb(out) as ReadableStream, {
    headers: {
      "Content-Type": "application/zip",
      "Content-Disposition": attachment(`${await downloadName(db, restore.jobId)}, ${restore.destination}.zip`),
    },
  });
}
