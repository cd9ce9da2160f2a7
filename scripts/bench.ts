import { execFileSync, spawnSync } from "node:child_process";
import { existsSync, mkdirSync, rmSync, statSync } from "node:fs";
import { basename, join } from "node:path";
import { build } from "esbuild";
import { archivesOfMany } from "../bench/archives";
import { bigTape } from "../bench/backup-file";
import { bigApfs, bigExfat, bigFat32, bigHfsPlus, bigNtfs } from "../bench/big-volumes";
import { bigDatabase } from "../bench/database";
import { datedTrees } from "../bench/dated-trees";
import { measure, row } from "../bench/measure";
import { accuracy } from "../bench/sweep-accuracy";
import { packedDrive, sweptDrive } from "../bench/swept-drive";
import { readSettings } from "../server/settings";
import { ensureDatabase, startCluster } from "./cluster";
import { complain } from "./launch";
import { PlainError } from "./packages";

const RUNS = 3;
const NEEDED: Record<string, string> = {
  "7z": "p7zip-full",
  mkntfs: "ntfs-3g",
  "mkfs.fat": "dosfstools",
  mcopy: "mtools",
  mkapfs: "apfsprogs",
  "mkfs.exfat": "exfatprogs",
  "mount.exfat-fuse": "exfat-fuse",
  sqlite3: "sqlite3",
  "/usr/bin/time": "time",
};
/** FAT32 and exFAT are measured with so many files, whatever the size of the NTFS volume. */
const MOST_IN_FOLDERS = 100_000;

/** Rows of the database. */
const ROWS = 1_000_000;
/** MiB of the backup files, at most. */
const MEBIBYTES = 2_048;
/** States of a backup set. */
const STATES = 40;
/** Files on the volume of a Mac at least. */
const FEWEST_ON_MAC = 200_000;

/** How what is measured is built. */
const BUNDLE = { bundle: true, platform: "node", target: "node20", format: "esm", logLevel: "warning" } as const;

/** What a reader's thread is given at most (`worker/thread.ts`), which also says when its memory is collected, and how it is. */
const READER = ["--max-old-space-size=1536", "--no-allocation-site-pretenuring"];

/** Mounts an exFAT image and lists all of it with sizes and dates. */
const LIST_MOUNTED = `at=$(mktemp -d) && device=$(losetup --find --show --read-only "$1") && mount.exfat-fuse -o ro "$device" "$at" >/dev/null 2>&1 &&
  find "$at" -ls >/dev/null; umount "$at"; losetup -d "$device"; rmdir "$at"`;

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
  // Its packages are put into it: a pass runs in a thread that has loaded them long before.
  await build({ ...BUNDLE, entryPoints: { "records-pass": "bench/records-pass.ts" }, outdir: out });
  await build({
    ...BUNDLE,
    entryPoints: {
      compass: "cli/main.ts",
      "read-through": "bench/read-through.ts",
      "lz-speed": "bench/lz-speed.ts",
      "record-search": "bench/record-search.ts",
      "earlier-states": "bench/earlier-states.ts",
      storing: "bench/storing.ts",
      "sweep-speed": "bench/sweep-speed.ts",
      restoring: "bench/restoring.ts",
      homes: "bench/homes.ts",
      "as-of": "bench/as-of.ts",
      "pass-thread": "worker/pass-thread.ts",
      "restore-thread": "worker/restore-thread.ts",
    },
    outdir: out,
    packages: "external",
  });
  const node = process.execPath;
  console.log(`| what | ours | the general tool | ours ÷ theirs |\n| --- | --- | --- | --- |`);
  const theirs = measure(RUNS, "7z", "l", "-slt", image);
  const pass = measure(RUNS, node, ...READER, join(out, "records-pass.js"), image);
  console.log(row(`the pass over the file records of ${records} files`, pass, "`7z l -slt`", theirs));
  for (const damaged of [false, true]) {
    const backup = bigTape(folder, MEBIBYTES, damaged);
    const what = `${damaged ? "a damaged" : "a sound"} tape-format backup of ${Math.round(statSync(backup).size / 2 ** 20)} MiB`;
    const through = measure(RUNS, "cat", backup);
    for (const how of ["light", "thorough"]) {
      const reading = measure(RUNS, node, join(out, "compass.js"), "list", backup, "--json", ...(how === "thorough" ? ["--thorough"] : []));
      console.log(row(`${how} reading of ${what}`, reading, "`cat`", through));
    }
  }
  const many = archivesOfMany(folder, records);
  for (const [path, lists, looks] of [
    [many.tar, ["tar", "-tvf", many.tar], ["tar", "-xOf", many.tar]],
    [many.zip, ["7z", "l", "-slt", many.zip], ["7z", "t", many.zip]],
  ] as const)
    for (const [how, [program, ...args]] of [
      ["light", lists],
      ["thorough", looks],
    ] as const) {
      const options = how === "thorough" ? ["--thorough"] : [];
      const reading = measure(RUNS, node, join(out, "compass.js"), "list", path, "--json", ...options);
      const what = `${how} reading of a ${path === many.tar ? "TAR" : "ZIP"} archive of ${records} files`;
      console.log(row(what, reading, `\`${program} ${args[0]}\``, measure(RUNS, program, ...args)));
    }
  const list = measure(RUNS, node, join(out, "compass.js"), "list", image, "--records-only", "--json");
  console.log(row(`list an NTFS volume of ${records} files`, list, "`7z l -slt`", theirs));
  const read = measure(RUNS, node, join(out, "read-through.js"), image);
  console.log(row("read the same image through the byte source", read, "`cat`", measure(RUNS, "cat", image)));
  const inFolders = Math.min(records, MOST_IN_FOLDERS);
  const onMac = Math.max(records, FEWEST_ON_MAC);
  const stored: [string, number][] = [[image, records]];
  for (const [kind, volume, count, words, ...tool] of [
    ["FAT32", bigFat32(folder, inFolders), inFolders, "`7z l -slt`", "7z", "l", "-slt"],
    ["HFS+", bigHfsPlus(folder, onMac), onMac, "`7z l -slt`", "7z", "l", "-slt"],
    ["APFS", bigApfs(folder, onMac), onMac, "`7z l -slt`", "7z", "l", "-slt"],
    // No general tool at hand lists exFAT without mounting it.
    ["exFAT", bigExfat(folder, inFolders), inFolders, "mounted by exfat-fuse, `find -ls`", "sh", "-c", LIST_MOUNTED, "list"],
  ] as const) {
    const [command, ...args] = tool;
    if (kind !== "HFS+" && kind !== "APFS") stored.push([volume, count]);
    const ours = measure(RUNS, node, ...READER, join(out, "records-pass.js"), volume);
    console.log(
      row(`the pass over the entries of a ${kind} volume of ${count} files`, ours, words, measure(RUNS, command, ...args, volume)),
    );
  }
  for (const kind of ["HFS+", "APFS"]) {
    const volume = join(folder, `${kind === "APFS" ? "apfs" : "hfsplus"}-${FEWEST_ON_MAC}-driver.img`);
    const what = `the pass over the entries of ${FEWEST_ON_MAC} files that the kernel's driver wrote to ${kind}`;
    if (!existsSync(volume)) {
      console.error(`Left out: ${what}. sh bench/driver-volumes.sh ${folder} makes the volumes.`);
      continue;
    }
    const ours = measure(RUNS, node, ...READER, join(out, "records-pass.js"), volume);
    console.log(row(what, ours, "`7z l -slt`", measure(RUNS, "7z", "l", "-slt", volume)));
  }
  execFileSync(node, [join(out, "lz-speed.js"), "tests/fixtures/mac/lz-vectors.json.gz"], { stdio: "inherit" });
  const trees = datedTrees(folder, STATES, inFolders / 2);
  const states = measure(RUNS, node, ...READER, join(out, "earlier-states.js"), trees);
  console.log(
    row(`the pass over ${STATES} dated trees of ${inFolders / 2} files`, states, "`find -ls`", measure(RUNS, "find", trees, "-ls")),
  );
  await databases(folder, out);
  sweeping(folder, out);
  await storing(folder, stored, trees, out);
  rmSync(out, { recursive: true });
}

/** The rows of a database against the general tool's own dump of them. */
async function databases(folder: string, out: string): Promise<void> {
  const database = await bigDatabase(folder, ROWS);
  const theirs = measure(RUNS, "sqlite3", "-readonly", database, ".dump");
  for (const [what, ...more] of [["the rows of"], ["the rows of, and what is left of deleted ones in,", "--deleted"]] as const) {
    const ours = measure(RUNS, process.execPath, join(out, "compass.js"), "records", database, "--json", ...more);
    console.log(row(`${what} a database of ${ROWS} rows, a tenth deleted`, ours, "`sqlite3 .dump`", theirs));
  }
  execFileSync(process.execPath, [join(out, "record-search.js"), database], { stdio: "inherit" });
}

/** Bytes swept against the same bytes read; how exact the sweep is. */
function sweeping(folder: string, out: string): void {
  const speed = join(out, "sweep-speed.js");
  const packed = packedDrive(folder);
  for (const [what, drives] of [
    // Several times over, so that it is the sweep that is measured and not the start of a program.
    ["16 GiB of packed data (4 GiB four times)", Array.from({ length: 4 }, () => packed)],
    ["4 GiB of a mixed drive", [sweptDrive(folder)]],
  ] as const) {
    const theirs = measure(RUNS, "cat", ...drives);
    const say = (how: string, mode: string) =>
      console.log(row(`sweep ${what} at ${how}, one thread`, measure(RUNS, process.execPath, speed, mode, ...drives), "`cat`", theirs));
    say("sectors", "sectors");
    say("every byte", "every");
  }
  for (const { title, rows } of accuracy()) console.log(`\n| the sweep's accuracy: ${title} | |\n| --- | --- |\n${rows}\n`);
}

/**
 * Whole passes, each into an empty database, against the same rows copied into a bare table of it; that over earlier states against a listing of all that lies in
 * them.
 * @param trees a folder of dated trees
 */
async function storing(folder: string, volumes: readonly [image: string, files: number][], trees: string, out: string): Promise<void> {
  const cluster = await startCluster(join(folder, "database"));
  try {
    for (const [image, files] of volumes) {
      const name = `bench_${Date.now()}`;
      await ensureDatabase(cluster.url("postgres"), name);
      const url = cluster.url(name);
      const ours = measure(1, process.execPath, join(out, "storing.js"), image, url);
      const rows = join(folder, "copies.txt");
      const psql = (statement: string) => ["psql", url, "-q", "-v", "ON_ERROR_STOP=1", "-c", statement] as const;
      const run = (statement: string) => execFileSync("psql", psql(statement).slice(1), { stdio: ["ignore", "ignore", "inherit"] });
      run(`\\copy copies to '${rows}'`);
      run("create table bare (like copies)");
      const theirs = measure(1, ...psql(`\\copy bare from '${rows}'`));
      const what = `read, judge, gather and store the copies of ${files} files (${basename(image).replace(/-.*/, "")})`;
      console.log(row(what, ours, "`psql \\copy` of the same rows, no index", theirs));
      rmSync(rows);
    }
    const name = `bench_${Date.now()}`;
    await ensureDatabase(cluster.url("postgres"), name);
    const states = measure(1, process.execPath, join(out, "storing.js"), trees, cluster.url(name), "earlier-states");
    console.log(row(`the same of ${STATES} dated trees (${basename(trees)})`, states, "`find -ls`", measure(RUNS, "find", trees, "-ls")));
    for (const [what, script] of [
      ["Restoring", "restoring.js"],
      ["Joining and parting drives of very many files", "homes.js"],
      ["Stepping through the states of very many files", "as-of.js"],
    ] as const) {
      const name = `bench_${Date.now()}`;
      await ensureDatabase(cluster.url("postgres"), name);
      const said = execFileSync(process.execPath, [join(out, script), cluster.url(name)], { encoding: "utf8" });
      console.log(`\n${what}: ${said.trim()}`);
    }
  } finally {
    cluster.stop();
  }
}

main().catch((error: unknown) => {
  complain(error);
  process.exit(1);
});
