// The way in: makes sure of Node and the packages, then hands over to the script of that name. Plain JavaScript
// without packages, because before `npm ci` there are none.
import { spawn, spawnSync } from "node:child_process";
import { createHash } from "node:crypto";
import { existsSync, readFileSync, writeFileSync } from "node:fs";
import { dirname, join } from "node:path";
import { fileURLToPath } from "node:url";

const root = dirname(dirname(fileURLToPath(import.meta.url)));
process.chdir(root);
const [verb = "start", ...rest] = process.argv.slice(2);

const major = Number(process.versions.node.split(".")[0]);
if (major < 20) {
  console.error(`Node ${process.versions.node} is too old: Tidy Compass needs Node 20 or newer.`);
  process.exit(1);
}

const stamp = join(root, "node_modules", ".compass-lock");
const wanted = createHash("sha256")
  .update(readFileSync(join(root, "package-lock.json")))
  .digest("hex");
const present = existsSync(stamp) ? readFileSync(stamp, "utf8") : "";
if (present !== wanted) {
  console.error("Installing packages (npm ci) …");
  const done = spawnSync("npm", ["ci", "--no-audit", "--no-fund"], { stdio: ["ignore", "inherit", "inherit"] });
  if (done.status !== 0) {
    console.error("The packages could not be installed; see the lines above. Check the network and the space on the disk, then try again.");
    process.exit(1);
  }
  writeFileSync(stamp, wanted);
}

const child = spawn(process.execPath, ["--import", "tsx", join(root, "scripts", `${verb}.ts`), ...rest], { stdio: "inherit" });
// The child stands in the same process group and hears Ctrl-C itself; this one only waits for it.
for (const signal of ["SIGINT", "SIGHUP"]) process.on(signal, () => undefined);
process.on("SIGTERM", () => child.kill("SIGTERM"));
child.on("exit", (code, signal) => process.exit(code ?? (signal ? 1 : 0)));
