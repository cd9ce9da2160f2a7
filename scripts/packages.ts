import { spawnSync } from "node:child_process";
import { existsSync, readdirSync } from "node:fs";
import { join } from "node:path";

/** Something the person at the keyboard has to mend. Shown as it is, without a stack. */
export class PlainError extends Error {}

const isRoot = process.getuid?.() === 0;

/** Installs Debian packages, as root or through sudo. @throws PlainError with the list when neither works */
function install(packages: readonly string[], what: string): void {
  const list = packages.join(" ");
  const advice = `Please install ${what} yourself:\n    sudo apt-get update && sudo apt-get install ${list}\nand start again.`;
  if (!existsSync("/usr/bin/apt-get")) throw new PlainError(`${what} is missing and this system has no apt-get. ${advice}`);
  const prefix = isRoot ? [] : ["sudo", "-n"];
  if (!isRoot && spawnSync("sudo", ["-n", "true"]).status !== 0) throw new PlainError(`${what} is missing. ${advice}`);
  console.error(`Installing ${what} from the system's packages …`);
  const run = (...args: string[]) => {
    const [command = "apt-get", ...rest] = [...prefix, "env", "DEBIAN_FRONTEND=noninteractive", "apt-get", "-qq", ...args];
    return spawnSync(command, rest, { stdio: ["ignore", "ignore", "inherit"] }).status === 0;
  };
  // A machine whose lists are fresh needs no update; one that has none, or old ones, does.
  if (!run("install", "-y", "--no-install-recommends", ...packages)) {
    run("update");
    if (!run("install", "-y", "--no-install-recommends", ...packages)) throw new PlainError(`${what} could not be installed. ${advice}`);
  }
}

const postgresHome = "/usr/lib/postgresql";

function newestPostgres(): string | null {
  const versions = existsSync(postgresHome) ? readdirSync(postgresHome).sort((a, b) => Number(b) - Number(a)) : [];
  const version = versions.find((each) => existsSync(join(postgresHome, each, "bin", "initdb")));
  return version ? join(postgresHome, version, "bin") : null;
}

/** The folder with PostgreSQL's programs; installs them when they are missing. */
export function postgresPrograms(): string {
  const present = newestPostgres();
  if (present) return present;
  install(["postgresql", "postgresql-contrib"], "PostgreSQL");
  const now = newestPostgres();
  if (!now) throw new PlainError("PostgreSQL was installed, but its programs are not under /usr/lib/postgresql.");
  return now;
}

/** Makes sure of the tools that keep named streams with restored files (setfattr, getfattr). */
export function ensureAttributeTools(): void {
  if (!existsSync("/usr/bin/setfattr")) install(["attr"], "The tools for extended attributes");
}

/** Small tools of tests: another program's view of a PDF, hosts of their own, and a driver of NTFS. */
export function ensureTestTools(): void {
  ensureAttributeTools();
  const missing = ["/usr/bin/qpdf", "/usr/bin/pdfinfo", "/usr/sbin/ip", "/usr/bin/ntfs-3g"].some((program) => !existsSync(program));
  if (missing) install(["qpdf", "poppler-utils", "iproute2", "ntfs-3g"], "Tools of the tests");
}

export const CHROMIUM = "/usr/bin/chromium";

/** Makes sure of the browser the end-to-end tests drive. */
export function ensureChromium(): void {
  if (!existsSync(CHROMIUM)) install(["chromium"], "Chromium");
}
