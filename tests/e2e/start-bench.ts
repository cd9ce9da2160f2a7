import { randomBytes } from "node:crypto";
import { mkdirSync, rmSync } from "node:fs";
import { join } from "node:path";
import { loadDemo } from "../../demo/load";
import { freePort } from "../../scripts/cluster";
import { startAnsweringWeb, startDoor, startWorker } from "../../scripts/services";
import { readSettings } from "../../server/settings";
import { scratchDatabase } from "../support/scratch-database";

/** Starts the built application with the demo's data, as the start command would. @returns what ends it again */
export default async function startBench(): Promise<() => Promise<void>> {
  const { COMPASS_TEST_WORK: work = "", COMPASS_TEST_PORT: port = "" } = process.env;
  process.env.COMPASS_DATABASE_URL = await scratchDatabase();
  process.env.COMPASS_SOURCES = join(work, "e2e-sources");
  process.env.COMPASS_DELIVERY = join(work, "e2e-delivery");
  // Two further folders stand for another device and for a drive that takes the lost one's place.
  process.env.COMPASS_DELIVERY_MORE = join(work, "e2e-second");
  process.env.COMPASS_REPLACEMENTS = join(work, "e2e-replacement");
  for (const folder of [process.env.COMPASS_DELIVERY_MORE, process.env.COMPASS_REPLACEMENTS]) {
    rmSync(folder, { recursive: true, force: true });
    mkdirSync(folder, { recursive: true });
  }
  // A device made of a file stands for a drive.
  process.env.COMPASS_DRIVES = "all";
  process.env.COMPASS_DATA = join(work, "e2e-data");
  process.env.COMPASS_PORT = port;
  rmSync(process.env.COMPASS_DELIVERY, { recursive: true, force: true });
  mkdirSync(process.env.COMPASS_DELIVERY, { recursive: true });
  await loadDemo(readSettings(), true);
  process.env.COMPASS_SHARE_HOST = "127.0.0.1";
  process.env.COMPASS_SHARE_PORT = String(await freePort());
  process.env.COMPASS_DOOR = randomBytes(32).toString("hex");
  const environment: NodeJS.ProcessEnv = { ...process.env, NODE_ENV: "production", COMPASS_LOG: "warn" };
  const worker = startWorker(environment);
  const web = await startAnsweringWeb("127.0.0.1", Number(port), environment);
  const door = startDoor(environment);
  return async () => {
    await door.stop();
    await web.stop();
    await worker.stop();
  };
}
