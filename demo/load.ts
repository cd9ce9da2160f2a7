import { closeSync, createReadStream, existsSync, ftruncateSync, mkdirSync, openSync, readFileSync, renameSync, writeSync } from "node:fs";
import { join } from "node:path";
import { createGunzip, gunzipSync } from "node:zlib";
import { saveAccounts } from "../server/accounts/commands";
import { open } from "../server/database/connection";
import { createJob } from "../server/jobs/commands";
import type { Settings } from "../server/settings";
import { addSource } from "../server/sources/commands";
import { layOut, type PackedFiles } from "./lay-out";
import { SCENARIO } from "./scenario";

const BLOCK = 1 << 16;

/** Unpacks the demo's images and loads its jobs, unless they are there already. */
export async function loadDemo(settings: Settings, fresh: boolean): Promise<void> {
  const [folder] = settings.COMPASS_SOURCES;
  if (!folder) throw new Error("COMPASS_SOURCES names no folder for the demo's images.");
  mkdirSync(folder, { recursive: true });
  for (const { images, folders = [] } of SCENARIO) {
    for (const each of folders) if (fresh || !existsSync(join(folder, each))) layOut(packedFolder(each), join(folder, each));
    for (const image of images) {
      const target = join(folder, image);
      if (fresh || !existsSync(target)) await unpackSparse(join(import.meta.dirname, "images", `${image}.gz`), target);
    }
  }
  const { pool, db } = open(process.env.COMPASS_DATABASE_URL);
  try {
    const { rows } = await pool.query<{ count: number }>("select count(*)::int as count from jobs");
    if (rows[0]?.count) return;
    for (const job of SCENARIO) {
      const id = await createJob(db, { title: job.title, client: job.client });
      await saveAccounts(db, id, job.accounts);
      for (const source of [...job.images, ...(job.folders ?? [])]) await addSource(db, id, join(folder, source));
    }
  } finally {
    await pool.end();
  }
}

/** The files of a packed folder. */
const packedFolder = (name: string): PackedFiles =>
  JSON.parse(gunzipSync(readFileSync(join(import.meta.dirname, "images", `${name}.json.gz`))).toString());

/** Unpacks a gzip file, leaving holes where it holds only zeros. */
async function unpackSparse(from: string, to: string): Promise<void> {
  const working = `${to}.unpacking`;
  const file = openSync(working, "w");
  let at = 0;
  let kept = Buffer.alloc(0);
  const put = (block: Buffer) => {
    if (block.some((byte) => byte !== 0)) writeSync(file, block, 0, block.length, at);
    at += block.length;
  };
  try {
    for await (const chunk of createReadStream(from).pipe(createGunzip())) {
      kept = Buffer.concat([kept, chunk as Buffer]);
      while (kept.length >= BLOCK) {
        put(kept.subarray(0, BLOCK));
        kept = kept.subarray(BLOCK);
      }
    }
    put(kept);
    ftruncateSync(file, at);
  } finally {
    closeSync(file);
  }
  renameSync(working, to);
}
