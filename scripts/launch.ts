import { randomBytes } from "node:crypto";
import { accessSync, constants } from "node:fs";
import { loadDemo } from "../demo/load";
import { makeFolder } from "../io/make-folder";
import { withClient } from "../server/database/connection";
import { migrateDatabase } from "../server/database/migrate";
import { readSettings, type Settings } from "../server/settings";
import { doorOf } from "../server/shares/address";
import { buildAll } from "./build";
import { portIsFree, startCluster } from "./cluster";
import { EndingError, endCommands } from "./commands";
import { holdDataFolder } from "./one-start";
import { ensureAttributeTools, PlainError } from "./packages";
import { answers, startDoor, startWeb, startWorker } from "./services";
import { type Supervised, supervise, superviseCluster } from "./supervise";

/** Starts database, web server and worker, keeps them running, and ends all of them with this process, at whatever moment it is ended. */
export async function launch(options: { demo: boolean; fresh: boolean }): Promise<void> {
  const parts: Supervised[] = [];
  let release: () => void = () => undefined;
  let ending: Promise<void> | undefined;
  const end = (code: number) => {
    ending ??= (async () => {
      endCommands();
      // What is being started now is over, or ends itself, before the parts that run are ended.
      await starting.catch(() => undefined);
      // In reverse, so that nobody misses the database.
      for (const part of parts.reverse()) await part.stop();
      release();
      process.exit(code);
    })();
    return ending;
  };
  let starting: Promise<void> = Promise.resolve();
  for (const signal of ["SIGINT", "SIGTERM", "SIGHUP"] as const) process.on(signal, () => void end(0));
  // Who started this process has died: nobody could end it any more.
  process.on("disconnect", () => void end(0));
  const isEnding = () => ending !== undefined;
  try {
    const settings = settingsInWords();
    starting = start(settings, options, parts, isEnding, (giveBack) => {
      release = giveBack;
    });
    await starting;
    if (isEnding()) return;
    console.log(`Tidy Compass is ready: http://${settings.COMPASS_HOST}:${settings.COMPASS_PORT}\nCtrl-C ends it.`);
  } catch (error) {
    if (!isEnding()) complain(error);
    await end(1);
  }
}

async function start(
  settings: Settings,
  options: { demo: boolean; fresh: boolean },
  parts: Supervised[],
  isEnding: () => boolean,
  held: (release: () => void) => void,
): Promise<void> {
  const { COMPASS_HOST: host, COMPASS_PORT: port } = settings;
  const goOn = () => {
    if (isEnding()) throw new EndingError("ending");
  };
  makeFolders(settings);
  held(holdDataFolder(settings.COMPASS_DATA));
  if (!(await portIsFree(host, port))) {
    throw new PlainError(
      `Port ${port} is taken by another program. Set COMPASS_PORT to a free one, for instance:\n    COMPASS_PORT=4311 npm run demo`,
    );
  }
  const door = doorOf(settings);
  if (door && !(await portIsFree(door.host, door.port)))
    throw new PlainError(
      `Nothing can be shared at ${door.host}, port ${door.port}: another program has that port, or this computer not that address. Set COMPASS_SHARE_HOST and COMPASS_SHARE_PORT.`,
    );
  offerAttributeTools();
  let url = settings.COMPASS_DATABASE_URL;
  if (!url) {
    const cluster = await startCluster(settings.COMPASS_DATA, { adopt: true });
    parts.push(superviseCluster(cluster));
    url = cluster.url("compass");
  }
  goOn();
  if (options.fresh) await emptyDatabase(url);
  goOn();
  await migrateDatabase(url);
  Object.assign(process.env, { COMPASS_DATABASE_URL: url, COMPASS_DATA: settings.COMPASS_DATA });
  goOn();
  if (options.demo) await loadDemo(settings, options.fresh);
  goOn();
  await buildAll();
  goOn();
  const environment: NodeJS.ProcessEnv = {
    ...process.env,
    NODE_ENV: "production",
    NEXT_TELEMETRY_DISABLED: "1",
    // By it the web server knows what comes through the door.
    COMPASS_DOOR: randomBytes(32).toString("hex"),
  };
  const worker = () => startWorker(environment);
  parts.push(supervise("worker", worker(), worker));
  const web = startWeb(host, port, environment);
  // Until it answers it ends the start when it dies; afterwards it is started anew.
  const first: Supervised = { stop: () => web.stop() };
  parts.push(first);
  await answers(web, host, port, isEnding);
  goOn();
  parts[parts.indexOf(first)] = supervise("web server", web, () => startWeb(host, port, environment));
  if (door) parts.push(supervise("door for clients", startDoor(environment), () => startDoor(environment)));
}

function settingsInWords(): Settings {
  try {
    return readSettings();
  } catch (error) {
    throw new PlainError((error as Error).message);
  }
}

function makeFolders(settings: Settings): void {
  for (const folder of [settings.COMPASS_DATA, settings.COMPASS_DELIVERY, ...settings.COMPASS_SOURCES]) {
    try {
      makeFolder(folder);
      if (folder === settings.COMPASS_DATA) accessSync(folder, constants.R_OK | constants.W_OK | constants.X_OK);
    } catch (error) {
      // A source folder may lie on a drive that is not connected or may not be written to: that is no reason to stop.
      if (settings.COMPASS_SOURCES.includes(folder)) continue;
      throw new PlainError(
        `The folder ${folder} cannot be made, or not be written to (${(error as NodeJS.ErrnoException).code}). Give this user the right to, or set another folder.`,
      );
    }
  }
}

async function emptyDatabase(url: string): Promise<void> {
  const sql = "drop schema if exists public, drizzle, graphile_worker cascade; create schema public";
  await withClient(url, (client) => client.query(sql));
}

/** Installs what one way of restoring needs; without it that way is refused, with the reason, and all else works. */
function offerAttributeTools(): void {
  try {
    ensureAttributeTools();
  } catch (error) {
    complain(error);
  }
}

export function complain(error: unknown): void {
  const { code } = error as NodeJS.ErrnoException;
  if (code === "ENOSPC") console.error("The disk is full. Free some space and start again.");
  else console.error(error instanceof PlainError ? error.message : ((error as Error).stack ?? String(error)));
}
