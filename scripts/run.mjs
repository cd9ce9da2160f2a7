// The way in: makes sure of Node and the packages, then hands over to the script of that name. Plain JavaScript
// without packages, because before `npm ci` there are none.
import { spawn } from "node:child_process";
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
let child = null;
let ended = null;
// Signals are passed on to what runs, also while the packages are installed. Ctrl-C reaches the whole group by itself, but who sends
// SIGINT to this process alone, or in the moment before the child exists, means the child too; hearing it twice does no harm.
for (const signal of ["SIGINT", "SIGHUP", "SIGTERM"])
  process.on(signal, () => {
    ended = signal;
    child?.kill(signal);
  });
// npm starts this through a shell, which takes a signal for itself and passes nothing on: its death is the signal then.
const parent = process.ppid;
setInterval(() => {
  if (process.ppid === parent || ended) return;
  ended = "SIGTERM";
  child?.kill("SIGTERM");
}, 300).unref();
const run = (command, args, stdio) =>
  new Promise((done) => {
    child = spawn(command, args, { stdio });
    child.on("error", (error) => {
      console.error(error.message);
      done(1);
    });
    child.on("exit", (code, signal) => done(code ?? (signal ? 1 : 0)));
  });

if (present !== wanted) {
  console.error("Installing packages (npm ci) …");
  const failed = await run("npm", ["ci", "--no-audit", "--no-fund"], ["ignore", "inherit", "inherit"]);
  if (ended) process.exit(0);
  if (failed) {
    console.error("The packages could not be installed; see the lines above. Check the network and the space on the disk, then try again.");
    process.exit(1);
  }
  writeFileSync(stamp, wanted);
}

// The channel tells the child when this process has died.
const script = ["--import", "tsx", join(root, "scripts", `${verb}.ts`), ...rest];
process.exit(await run(process.execPath, script, ["inherit", "inherit", "inherit", "ipc"]));
