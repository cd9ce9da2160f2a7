import { mkdirSync } from "node:fs";
import { loadDemo } from "../demo/load";
import { migrateDatabase } from "../server/database/migrate";
import { readSettings, type Settings } from "../server/settings";
import { buildAll } from "./build";
import { type Cluster, portIsFree, startCluster } from "./cluster";
import { PlainError } from "./packages";
import { type Service, startWeb, startWorker } from "./services";

/** Starts database, web server and worker, and ends all of them with this process. */
export async function launch(options: { demo: boolean; fresh: boolean }): Promise<void> {
  const settings = readSettings();
  if (!(await portIsFree(settings.COMPASS_HOST, settings.COMPASS_PORT))) {
    throw new PlainError(
      `Port ${settings.COMPASS_PORT} is taken by another program. Set COMPASS_PORT to a free one, for instance:\n    COMPASS_PORT=4311 npm run demo`,
    );
  }
  const started: Service[] = [];
  let cluster: Cluster | null = null;
  let ending: Promise<void> | undefined;
  const end = (code: number) => {
    ending ??= (async () => {
      for (const service of started.reverse()) await service.stop();
      cluster?.stop();
      process.exit(code);
    })();
    return ending;
  };
  process.on("SIGINT", () => void end(0));
  process.on("SIGTERM", () => void end(0));
  try {
    makeFolders(settings);
    if (!settings.COMPASS_DATABASE_URL) cluster = await startCluster(settings.COMPASS_DATA);
    const url = settings.COMPASS_DATABASE_URL ?? (cluster as Cluster).url("compass");
    if (options.fresh) await emptyDatabase(url);
    await migrateDatabase(url);
    process.env.COMPASS_DATABASE_URL = url;
    if (options.demo) await loadDemo(settings, options.fresh);
    await buildAll();
    const environment: NodeJS.ProcessEnv = { ...process.env, NODE_ENV: "production", NEXT_TELEMETRY_DISABLED: "1" };
    started.push(startWorker(environment));
    started.push(await startWeb(settings.COMPASS_HOST, settings.COMPASS_PORT, environment));
    for (const service of started) {
      service.process.on("exit", () => {
        if (ending) return;
        console.error("A part of the application ended unexpectedly; stopping the rest.");
        void end(1);
      });
    }
    console.log(`Tidy Compass is ready: http://${settings.COMPASS_HOST}:${settings.COMPASS_PORT}\nCtrl-C ends it.`);
  } catch (error) {
    complain(error);
    await end(1);
  }
}

function makeFolders(settings: Settings): void {
  for (const folder of [settings.COMPASS_DATA, settings.COMPASS_DELIVERY, ...settings.COMPASS_SOURCES]) {
    try {
      mkdirSync(folder, { recursive: true });
    } catch (error) {
      // A source folder may lie on a drive that is not connected or may not be written to: that is no reason to stop.
      if (settings.COMPASS_SOURCES.includes(folder)) continue;
      throw new PlainError(`The folder ${folder} cannot be made: ${(error as Error).message}.`);
    }
  }
}

async function emptyDatabase(url: string): Promise<void> {
  const { default: pg } = await import("pg");
  const client = new pg.Client({ connectionString: url });
  await client.connect();
  await client.query("drop schema if exists public, drizzle, graphile_worker cascade; create schema public");
  await client.end();
}

export function complain(error: unknown): void {
  const { code } = error as NodeJS.ErrnoException;
  if (code === "ENOSPC") console.error("The disk is full. Free some space and start again.");
  else console.error(error instanceof PlainError ? error.message : ((error as Error).stack ?? String(error)));
}
