import { type ChildProcess, spawn } from "node:child_process";
import { BENCH_KEEPS_MS } from "../server/shares/door-address";
import { PlainError } from "./packages";

export interface Service {
  readonly process: ChildProcess;
  stop(): Promise<void>;
}

function service(args: readonly string[], environment: NodeJS.ProcessEnv): Service {
  const child = spawn(process.execPath, args, { stdio: ["ignore", "ignore", "inherit", "ipc"], env: environment });
  const ended = new Promise<void>((done) => child.on("exit", () => done()));
  return {
    process: child,
    stop: async () => {
      if (child.exitCode !== null || child.signalCode !== null) return;
      child.kill("SIGTERM");
      const hard = setTimeout(() => child.kill("SIGKILL"), 15_000);
      await ended;
      clearTimeout(hard);
    },
  };
}

export function startWorker(environment: NodeJS.ProcessEnv): Service {
  return service(["--enable-source-maps", "dist/main.js"], environment);
}

/** Starts what clients reach shared pages by, from other computers. */
export function startDoor(environment: NodeJS.ProcessEnv): Service {
  return service(["--enable-source-maps", "dist/door-process.js"], environment);
}

/** Starts the web server. */
export function startWeb(host: string, port: number, environment: NodeJS.ProcessEnv): Service {
  const next = ["node_modules/next/dist/bin/next", "start", "--keepAliveTimeout", String(BENCH_KEEPS_MS)];
  return service([...next, "-H", host, "-p", String(port)], environment);
}

/** Waits until a web server answers, or waiting is of no use any more. @throws PlainError when it does not within a minute, or ends */
export async function answers(web: Service, host: string, port: number, enough: () => boolean = () => false): Promise<void> {
  const until = Date.now() + 60_000;
  while (Date.now() < until && !enough()) {
    if (web.process.exitCode !== null || web.process.signalCode !== null)
      throw new PlainError("The web server ended while starting; see the lines above.");
    try {
      if ((await fetch(`http://${host}:${port}/api/health`)).ok) return;
    } catch {
      // Not listening yet.
    }
    await new Promise((done) => setTimeout(done, 150));
  }
  if (!enough()) throw new PlainError("The web server did not answer within a minute.");
}

/** Starts the web server and waits until it answers. */
export async function startAnsweringWeb(host: string, port: number, environment: NodeJS.ProcessEnv): Promise<Service> {
  const web = startWeb(host, port, environment);
  try {
    await answers(web, host, port);
    return web;
  } catch (error) {
    await web.stop();
    throw error;
  }
}
