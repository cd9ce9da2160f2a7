import { createHash } from "node:crypto";
import { existsSync, readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { build } from "esbuild";
import { runCommand } from "./commands";
import { PlainError } from "./packages";

const ROOMS = [
  "app",
  "ui",
  "core",
  "io",
  "server",
  "worker",
  "proxy.ts",
  "instrumentation.ts",
  "next.config.ts",
  "package-lock.json",
  "tsconfig.json",
];
const STAMP = join("dist", "built-from");

function* files(path: string): Generator<string> {
  if (!existsSync(path)) return;
  if (/\.\w+$/.test(path)) {
    if (!path.includes(".test.")) yield path;
    return;
  }
  for (const entry of readdirSync(path).sort()) yield* files(join(path, entry));
}

/** A mark of everything the build is made from. */
function sourceMark(): string {
  const hash = createHash("sha256");
  for (const room of ROOMS) for (const file of files(room)) hash.update(file).update(readFileSync(file));
  return hash.digest("hex");
}

/** Builds the web application and the worker, unless what is there was built from the same files. */
export async function buildAll(): Promise<void> {
  const mark = sourceMark();
  if (existsSync(STAMP) && existsSync(".next/BUILD_ID") && readFileSync(STAMP, "utf8") === mark) return;
  console.error("Building …");
  await build({
    entryPoints: [
      "worker/main.ts",
      "worker/pass-thread.ts",
      "worker/reading-thread.ts",
      "worker/restore-thread.ts",
      "worker/sweep-thread.ts",
      "server/content/content-process.ts",
      "server/shares/door-process.ts",
    ],
    outdir: "dist",
    // All beside one another, so that each finds the others.
    entryNames: "[name]",
    bundle: true,
    splitting: true,
    platform: "node",
    target: "node20",
    format: "esm",
    packages: "external",
    sourcemap: true,
    logLevel: "warning",
  });
  const done = await runCommand(process.execPath, ["node_modules/next/dist/bin/next", "build"], {
    env: { ...process.env, NEXT_TELEMETRY_DISABLED: "1" },
  });
  if (!done.ok) throw new PlainError(`The application could not be built:\n${done.output}`);
  writeFileSync(STAMP, mark);
}
