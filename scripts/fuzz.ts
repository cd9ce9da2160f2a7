import { existsSync, mkdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { readSettings } from "../server/settings";
import { mutate, SUBJECTS, type SubjectName } from "../tests/support/mutations";

const ROUNDS = 100_000;
const PART = 500;
const MOST_MEMORY = 512 << 20;

/**
 * Damages volumes and containers again and again and reads them: `npm run fuzz -- [rounds] [kind]`. Each round follows from its
 * number, so a run that was ended goes on where it was, and a failed round can be run again by itself.
 */
function main(): void {
  const [wanted = String(ROUNDS), only] = process.argv.slice(2);
  const rounds = Number(wanted);
  const names = (Object.keys(SUBJECTS) as SubjectName[]).filter((name) => only === undefined || name === only);
  if (!Number.isInteger(rounds) || rounds < 1 || names.length === 0) {
    console.error(`npm run fuzz -- [rounds] [kind]; kinds: ${Object.keys(SUBJECTS).join(", ")}`);
    process.exit(2);
  }
  const folder = join(readSettings().COMPASS_DATA, "fuzz");
  mkdirSync(folder, { recursive: true });
  const file = join(folder, "rounds.json");
  const done: Partial<Record<SubjectName, number>> = existsSync(file) ? JSON.parse(readFileSync(file, "utf8")) : {};
  let failed = false;
  for (const name of names) {
    let slowest = 0;
    let memory = 0;
    for (let from = Math.min(done[name] ?? 0, rounds); from < rounds; from += PART) {
      try {
        const outcome = mutate(name, from, Math.min(rounds, from + PART));
        slowest = Math.max(slowest, outcome.slowest);
        memory = Math.max(memory, outcome.memory);
      } catch (error) {
        console.error((error as Error).message);
        failed = true;
      }
      done[name] = Math.min(rounds, from + PART);
      writeFileSync(file, JSON.stringify(done));
    }
    if (memory > MOST_MEMORY) failed = true;
    console.log(
      `${name}: ${done[name]} rounds; slowest ${slowest.toFixed(0)} ms of processor time, at most ${Math.round(memory / (1 << 20))} MiB`,
    );
  }
  process.exit(failed ? 1 : 0);
}

main();
