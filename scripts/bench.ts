import { spawnSync } from "node:child_process";
import { mkdirSync, rmSync } from "node:fs";
import { join } from "node:path";
import { build } from "esbuild";
import { bigNtfs } from "../bench/big-ntfs";
import { measure, row } from "../bench/measure";
import { readSettings } from "../server/settings";
import { complain } from "./launch";
import { PlainError } from "./packages";

const RUNS = 3;
const NEEDED: Record<string, string> = { "7z": "p7zip-full", mkntfs: "ntfs-3g", "/usr/bin/time": "time" };

/** Measures against general tools on the same bytes in the same run and prints the report as Markdown. */
async function main(): Promise<void> {
  const missing = Object.keys(NEEDED).filter((program) => spawnSync("which", [program]).status !== 0);
  if (missing.length > 0)
    throw new PlainError(`The benchmarks need: apt-get install ${missing.map((program) => NEEDED[program]).join(" ")}`);
  const records = Number(process.argv[2] ?? 100_000);
  const folder = join(readSettings().COMPASS_DATA, "bench");
  mkdirSync(folder, { recursive: true });
  const image = bigNtfs(folder, records);
  // Below the project, so that its packages are found.
  const out = join("dist", "bench");
  await build({
    entryPoints: { compass: "cli/main.ts", "read-through": "bench/read-through.ts", "records-pass": "bench/records-pass.ts" },
    outdir: out,
    bundle: true,
    platform: "node",
    target: "node20",
    format: "esm",
    packages: "external",
    outExtension: { ".js": ".mjs" },
    logLevel: "warning",
  });
  const node = process.execPath;
  console.log(`| what | ours | the general tool | ours ÷ theirs |\n| --- | --- | --- | --- |`);
  const theirs = measure(RUNS, "7z", "l", "-slt", image);
  const pass = measure(RUNS, node, join(out, "records-pass.mjs"), image);
  console.log(row(`the pass over the file records of ${records} files`, pass, "`7z l -slt`", theirs));
  const list = measure(RUNS, node, join(out, "compass.mjs"), "list", image, "--records-only", "--json");
  console.log(row(`list an NTFS volume of ${records} files`, list, "`7z l -slt`", theirs));
  const read = measure(RUNS, node, join(out, "read-through.mjs"), image);
  console.log(row("read the same image through the byte source", read, "`cat`", measure(RUNS, "cat", image)));
  rmSync(out, { recursive: true });
}

main().catch((error: unknown) => {
  complain(error);
  process.exit(1);
});
