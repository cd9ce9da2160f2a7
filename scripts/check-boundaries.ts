import { spawnSync } from "node:child_process";

/** Fewer modules than this and the tool has not read the house: its silence would mean nothing. */
const FEWEST_MODULES = 100;

const done = spawnSync(
  process.execPath,
  [
    "node_modules/dependency-cruiser/bin/dependency-cruise.mjs",
    "core",
    "io",
    "server",
    "worker",
    "cli",
    "app",
    "ui",
    "demo",
    "scripts",
    "--config",
    ".dependency-cruiser.cjs",
    "--output-type",
    "json",
  ],
  { encoding: "utf8", maxBuffer: 1 << 28 },
);
const report = JSON.parse(done.stdout) as {
  summary: { totalCruised: number; violations: { from: string; to: string; rule: { name: string } }[] };
};
const { totalCruised, violations } = report.summary;
for (const { from, to, rule } of violations) console.error(`${rule.name}: ${from} → ${to}`);
console.error(`${totalCruised} modules read, ${violations.length} boundaries crossed`);
if (totalCruised < FEWEST_MODULES) console.error(`Expected at least ${FEWEST_MODULES} modules: the check did not read them.`);
process.exit(violations.length > 0 || totalCruised < FEWEST_MODULES ? 1 : 0);
