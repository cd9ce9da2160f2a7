import { spawnSync } from "node:child_process";
import { chmodSync, mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { buildAll } from "./build";
import { type Cluster, startCluster } from "./cluster";
import { complain } from "./launch";

/** Runs the faults of `tests/faults` in their long form: kills, failing disks and hostile files in greater number. */
async function main(): Promise<number> {
  const work = mkdtempSync(join(tmpdir(), "compass-faults-"));
  // The database server's user must be able to reach its folder in here.
  chmodSync(work, 0o711);
  let cluster: Cluster | null = null;
  try {
    cluster = await startCluster(join(work, "data"));
    await buildAll();
    const environment = { COMPASS_TEST_DATABASE: cluster.url(""), COMPASS_TEST_WORK: work, TMPDIR: work, COMPASS_FAULTS: "long" };
    const args = ["node_modules/vitest/vitest.mjs", "run", "--project", "faults", ...process.argv.slice(2)];
    return (
      spawnSync(process.execPath, args, { stdio: ["ignore", "inherit", "inherit"], env: { ...process.env, ...environment } }).status ?? 1
    );
  } finally {
    cluster?.stop();
    rmSync(work, { recursive: true, force: true });
  }
}

void main()
  .catch((error: unknown) => {
    complain(error);
    return 1;
  })
  .then((code) => process.exit(code));
