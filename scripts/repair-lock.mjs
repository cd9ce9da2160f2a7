// Completes package-lock.json after `npm install`.
// Why: npm leaves optional packages for other platforms out of the lock when the registry does not offer
// them, and a later `npm ci` then refuses the lock ("Missing: … from lock file"). Each such name with an
// exact version is added with what its name says about platform; running this twice changes nothing.
import { readFileSync, writeFileSync } from "node:fs";

const file = new URL("../package-lock.json", import.meta.url);
const lock = JSON.parse(readFileSync(file, "utf8"));
const systems = ["aix", "android", "darwin", "freebsd", "linux", "netbsd", "openbsd", "openharmony", "sunos", "win32", "wasm32"];
const cpus = ["arm", "arm64", "ia32", "loong64", "mips64el", "ppc64", "riscv64", "s390x", "x64"];
let added = 0;
for (const entry of Object.values(lock.packages)) {
  for (const [name, version] of Object.entries(entry.optionalDependencies ?? {})) {
    if (!/^\d+\.\d+\.\d+/.test(version) || lock.packages[`node_modules/${name}`]) continue;
    const words = name.split("/").pop().split("-");
    const filled = { version, optional: true };
    const os = words.filter((word) => systems.includes(word));
    const cpu = words.filter((word) => cpus.includes(word));
    if (os.length > 0) filled.os = os;
    if (cpu.length > 0) filled.cpu = cpu;
    if (words.includes("musl")) filled.libc = ["musl"];
    if (words.includes("gnu")) filled.libc = ["glibc"];
    lock.packages[`node_modules/${name}`] = filled;
    added += 1;
  }
}
lock.packages = Object.fromEntries(Object.entries(lock.packages).sort(([a], [b]) => (a < b ? -1 : 1)));
writeFileSync(file, `${JSON.stringify(lock, null, 2)}\n`);
process.stderr.write(`package-lock.json: ${added} optional packages of other platforms added\n`);
