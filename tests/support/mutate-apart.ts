import { execFile } from "node:child_process";
import { mkdirSync } from "node:fs";
import { join } from "node:path";
import { promisify } from "node:util";
import { build } from "esbuild";
import type { Outcome, SubjectName } from "./mutations";

const here = import.meta.dirname;
const folder = join(here, "..", "..", "node_modules", ".cache", "compass-tests");
const made = join(folder, `mutations-${process.pid}.mjs`);
let building: Promise<unknown> | null = null;

/** Puts the readers and what damages their files into one script, as the command line is built: what a test loads module by module takes twice as long. */
function built(): Promise<unknown> {
  mkdirSync(folder, { recursive: true });
  building ??= build({
    entryPoints: [join(here, "mutations-process.ts")],
    outfile: made,
    bundle: true,
    platform: "node",
    target: "node20",
    format: "esm",
    packages: "external",
    sourcemap: "inline",
    // The fixtures lie beside the folder of the sources, not beside the script.
    define: { "import.meta.dirname": JSON.stringify(here) },
  });
  return building;
}

/**
 * Damages a subject in a process of its own, each round by its number (`mutate`).
 * @throws Error naming the round in which a reader did what it must not
 */
export async function mutateApart(name: SubjectName, from: number, to: number): Promise<Outcome> {
  await built();
  const { stdout } = await promisify(execFile)(process.execPath, ["--enable-source-maps", made, name, String(from), String(to)], {
    maxBuffer: 1 << 26,
  });
  return JSON.parse(stdout) as Outcome;
}
