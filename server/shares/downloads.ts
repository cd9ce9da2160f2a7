import { Readable } from "node:stream";
import { sql } from "drizzle-orm";
import yazl from "yazl";
import type { Condition } from "../../core/copies/vocabulary";
import { GivenPaths, safeComponents, safeName } from "../../core/restore/names";
import { runTask } from "../content/pool";
import type { Connection } from "../database/connection";
import { note } from "../log/commands";
import { OPENS } from "../passes/best-copy";
import { OWN_STEP } from "../previews/raw";
import { Problem } from "../problem";
import { attachment, downloadName } from "../respond";
import { WRITABLE } from "../restores/planned";
import type { Access } from "./access";

interface ChosenCopy {
  readonly id: number;
  readonly size: number;
  /** Folder and file names in the download. */
  readonly parts: string[];
  readonly modified: Date | null;
  readonly condition: Condition;
  readonly survival: number;
  readonly live: boolean;
  readonly opens: string | null;
  readonly writable: boolean;
}

/** The copies of a share that are given out, in the order of their folders. @param copyId one of the job's; null: what the client chose */
async function copiesOf(db: Connection, { shareId, jobId }: Access, copyId: number | null): Promise<ChosenCopy[]> {
  const which =
    copyId === null
      ? sql`c.id in (select copy_id from share_choices where share_id = ${shareId})`
      : sql`c.id = ${copyId} and c.item_id is not null`;
  const { rows } = await db.execute<{
    id: string;
    size: string;
    name: string;
    folder: string;
    home: string;
    modified: string | null;
    condition: Condition;
    survival: number;
    state: string;
    opens: string | null;
    writable: boolean;
  }>(sql`
    select c.id, c.size, c.name, f.path as folder, h.label as home, c.modified, c.condition, c.survival, c.state, ${sql.raw(OPENS("c"))} as opens,
      ${WRITABLE} as writable
    from copies c join folders f on f.id = c.folder_id join homes h on h.id = f.home_id
    where c.job_id = ${jobId} and ${which} order by h.label, f.path, c.name, c.id`);
  return rows.map(({ id, size, name, folder, home, modified, state, ...row }) => ({
    ...row,
    id: Number(id),
    size: Number(size),
    parts: [safeName(home), ...safeComponents(`${folder}/${name}`)],
    modified: modified === null ? null : new Date(modified),
    live: state === "live",
  }));
}

/** What is not sure of a file, in words; null: every byte is accounted for and it opens. */
function doubtOf({ condition, survival, opens, live }: ChosenCopy): string | null {
  if (condition === "partial") return `damaged: about ${Math.floor(survival * 100)} % of it is left.`;
  if (opens === "no") return "every byte was found, but it does not open.";
  if (condition === "not-checked") return "nothing proves that its content is right. Look whether it opens.";
  return opens === "yes" || live ? null : "every byte was found; whether it opens was not looked at.";
}

const HEAD = [
  "These files come straight from what was found. They were read once and not compared with a second reading;",
  "files that were restored were. What is known of single files:",
  "",
];

/** The bytes of a copy that are its own, one part after the other. @param missing is called with how many of each part are not */
async function* ownParts(copy: ChosenCopy, missing: (bytes: number) => void): AsyncGenerator<Buffer, void, void> {
  for (let at = 0; at < copy.size; at += OWN_STEP) {
    const part = await runTask("ownBytes", [copy.id, at, OWN_STEP]);
    if (part.missing > 0) missing(part.missing);
    yield Buffer.from(part.bytes);
  }
}

/**
 * What a client chose as one ZIP, made while it is sent. A list at its end says of which files something is missing or not sure. ZIPs grow
 * past 4 GiB and 65,535 files (ZIP64).
 */
export async function chosenAsZip(db: Connection, access: Access): Promise<Response> {
  const copies = await copiesOf(db, access, null);
  const given = copies.filter(({ writable }) => writable);
  if (given.length === 0) throw new Problem("Nothing was chosen whose content is known.", 404);
  const remarks: string[] = [];
  const zip = new yazl.ZipFile();
  const out = zip.outputStream as Readable;
  zip.on("error", (error: Error) => out.destroy(error));
  const paths = new GivenPaths();
  for (const copy of copies) {
    const path = paths.give(copy.parts).join("/");
    if (!copy.writable) {
      remarks.push(`${path}: not in here. Nothing of its content is known, or it cannot be read.`);
      continue;
    }
    const doubt = doubtOf(copy);
    if (doubt) remarks.push(`${path}: ${doubt}`);
    const options = { size: copy.size, compress: false, ...(copy.modified ? { mtime: copy.modified } : {}) };
    zip.addReadStreamLazy(path, options, (give) => {
      let missing = 0;
      const stream = Readable.from(ownParts(copy, (bytes) => (missing += bytes)));
      stream.on("end", () => {
        if (missing > 0) remarks.push(`${path}: ${missing} bytes of it could not be read, or are another file’s, and are zeros.`);
      });
      give(null, stream);
    });
  }
  zip.addReadStreamLazy(paths.give(["Remarks.txt"]).join("/"), {}, (give) => {
    const lines = remarks.length > 0 ? remarks : ["Nothing speaks against any of them."];
    give(null, Readable.from([Buffer.from([...HEAD, ...lines, ""].join("\r\n"))]));
  });
  zip.end();
  await note(db, access.jobId, "Client downloads what was chosen", { link: access.shareId, files: given.length });
  return new Response(Readable.toWeb(out) as ReadableStream, {
    headers: {
      "Content-Type": "application/zip",
      "Content-Disposition": attachment(`${await downloadName(db, access.jobId)}, chosen.zip`),
    },
  });
}

/** One file of what was found, as long as nothing of it is missing: others come with their remarks in a ZIP. */
export async function foundFile(db: Connection, access: Access, copyId: number): Promise<Response> {
  const [copy] = await copiesOf(db, access, copyId);
  if (!copy?.writable) throw new Problem("Nothing of the content of this file is known, or it cannot be read.", 404);
  if (copy.condition === "partial")
    throw new Problem("This file is damaged: choose it and download what you chose; a list in it says what is missing.", 409);
  const stop = () => {
    throw new Problem("This file could not be read in full.", 409);
  };
  const body = Readable.toWeb(Readable.from(ownParts(copy, stop))) as ReadableStream;
  await note(db, access.jobId, "Client downloads a file", { link: access.shareId, copy: copyId, name: copy.parts.at(-1) });
  return new Response(body, {
    headers: {
      "Content-Type": "application/octet-stream",
      "Content-Disposition": attachment(copy.parts.at(-1) as string),
      "Content-Length": String(copy.size),
    },
  });
}
