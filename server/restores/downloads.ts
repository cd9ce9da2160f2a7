import { createReadStream, lstatSync, realpathSync } from "node:fs";
import { basename } from "node:path";
import { Readable } from "node:stream";
import yazl from "yazl";
import type { Connection } from "../database/connection";
import { Problem } from "../problem";
import { readSettings } from "../settings";
import { liesWithin } from "../sources/source-folders";
import { verifiedFiles } from "./queries";

const attachment = (name: string) => `attachment; filename*=UTF-8''${encodeURIComponent(name).replace(/'/g, "%27")}`;

/** Only plain files that really lie below the delivery folder are given out. */
function isDelivered(path: string): boolean {
  const stats = lstatSync(path, { throwIfNoEntry: false });
  return stats?.isFile() === true && liesWithin(realpathSync(path), realpathSync(readSettings().COMPASS_DELIVERY));
}

/** One restored file as a download. */
export async function fileOf(db: Connection, restoreId: number, resultId: number): Promise<Response> {
  const found = (await verifiedFiles(db, restoreId)).find((file) => file.id === resultId);
  if (!found || !isDelivered(found.output)) throw new Problem("This file is not in the delivery folder any more.", 404);
  const body = Readable.toWeb(createReadStream(found.output)) as ReadableStream;
  return new Response(body, {
    headers: {
      "Content-Type": "application/octet-stream",
      "Content-Disposition": attachment(basename(found.output)),
      "Content-Length": String(lstatSync(found.output).size),
    },
  });
}

/** All verified files of a restore as one ZIP, made while it is sent. */
export async function zipOf(db: Connection, restoreId: number): Promise<Response> {
  const files = (await verifiedFiles(db, restoreId)).filter((file) => isDelivered(file.output));
  if (files.length === 0) throw new Problem("There are no restored files to download.", 404);
  const zip = new yazl.ZipFile();
  for (const file of files) zip.addFile(file.output, file.name, { forceZip64Format: false });
  zip.end();
  const body = Readable.toWeb(Readable.from(zip.outputStream)) as ReadableStream;
  return new Response(body, {
    headers: { "Content-Type": "application/zip", "Content-Disposition": attachment(`restore-${restoreId}.zip`) },
  });
}
