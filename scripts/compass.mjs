#!/usr/bin/env node
// The command line. It runs as built, because compiling it at each call would take longer than most calls do; it is built by
// `npm ci` (and again when a file it is made from is newer). Plain JavaScript, because before `npm ci` there is nothing else.
import { mkdirSync, mkdtempSync, readdirSync, renameSync, rmSync, statSync, utimesSync } from "node:fs";
import { dirname, join } from "node:path";
import { fileURLToPath } from "node:url";

const root = dirname(dirname(fileURLToPath(import.meta.url)));
const built = join(root, "dist", "cli");

/** Returns the latest time at which one of the sources, or the list of them, was changed, in milliseconds. */
function newest(folder) {
  let latest = statSync(folder).mtimeMs;
  for (const entry of readdirSync(folder, { withFileTypes: true })) {
    const path = join(folder, entry.name);
    if (entry.isDirectory()) latest = Math.max(latest, newest(path));
    else if (!entry.name.includes(".test.")) latest = Math.max(latest, statSync(path).mtimeMs);
  }
  return latest;
}

const madeFrom = () =>
  Math.max(...["cli", "core", "io"].map((room) => newest(join(root, room))), statSync(join(root, "package-lock.json")).mtimeMs);

function isCurrent(latest) {
  const main = statSync(join(built, "main.js"), { throwIfNoEntry: false });
  return main !== undefined && main.mtimeMs >= latest;
}

/** Builds beside, then exchanges the folders: a call that runs meanwhile finds one or the other whole. */
async function buildCli(latest) {
  const { build } = await import("esbuild");
  mkdirSync(join(root, "dist"), { recursive: true });
  const beside = mkdtempSync(join(root, "dist", "cli-new-"));
  await build({
    absWorkingDir: root,
    entryPoints: ["cli/main.ts"],
    outdir: beside,
    bundle: true,
    splitting: true,
    platform: "node",
    target: "node20",
    format: "esm",
    logLevel: "warning",
    // It finds its own code in a file beside it.
    external: ["sql.js"],
    // Packages of the older form ask for others at run time.
    banner: { js: 'import { createRequire as requireFrom } from "node:module"; const require = requireFrom(import.meta.url);' },
  });
  // The time of what it was made from: a file changed while it was built is newer.
  const stamp = (Math.floor(latest) + 2) / 1000;
  utimesSync(join(beside, "main.js"), stamp, stamp);
  const old = `${beside}-old`;
  try {
    renameSync(built, old);
  } catch (error) {
    if (error.code !== "ENOENT") throw error;
  }
  try {
    renameSync(beside, built);
  } catch (error) {
    // Another call has put its own there meanwhile, made from the same files.
    if (error.code !== "ENOTEMPTY" && error.code !== "EEXIST") throw error;
    rmSync(beside, { recursive: true, force: true });
  }
  rmSync(old, { recursive: true, force: true });
}

const buildOnly = process.argv[2] === "--build-only";
const latest = madeFrom();
try {
  if (!isCurrent(latest)) await buildCli(latest);
} catch (error) {
  // Installed without what builds: that must not fail the installation.
  if (!buildOnly || error.code !== "ERR_MODULE_NOT_FOUND") throw error;
}
if (!buildOnly) await import(join(built, "main.js"));
