import { realpathSync } from "node:fs";
import { dirname } from "node:path";
import { open } from "../server/database/connection";
import { migrateDatabase } from "../server/database/migrate";
import { createJob } from "../server/jobs/commands";
import { startPass } from "../server/passes/commands";
import type { PassPlace } from "../server/passes/contract";
import { listPasses } from "../server/passes/queries";
import { addSource } from "../server/sources/commands";
import { listSources } from "../server/sources/queries";
import { runPass } from "../worker/run-pass";

/** A whole pass over an image or a folder into an empty database: read, judged, gathered into items, stored. Over its file records, where nothing else is named. */
async function main(): Promise<void> {
  const [, , path = "", url = "", place] = process.argv;
  const source = realpathSync(path);
  Object.assign(process.env, { COMPASS_DATABASE_URL: url, COMPASS_SOURCES: dirname(source), COMPASS_LOG: "error" });
  await migrateDatabase(url);
  const { db, pool } = open(url);
  const job = await createJob(db, { title: "Measurement", client: "" });
  await addSource(db, job, source);
  const volume = (await listSources(db, job))[0]?.volumes[0];
  const pass = await startPass(db, job, volume?.id ?? 0, place as PassPlace | undefined);
  const state = async () => (await listPasses(db, job)).find((each) => each.id === pass);
  while ((await state())?.state !== "done") await runPass(db, pool, pass, "bench", () => false);
  const ended = await state();
  await pool.end();
  console.log((ended?.foundLive ?? 0) + (ended?.foundLost ?? 0));
}

await main();
