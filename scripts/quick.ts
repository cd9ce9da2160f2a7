import { spawn } from "node:child_process";

const bin = (name: string) => `node_modules/${name}`;
const CHECKS: Record<string, string[][]> = {
  types: [
    [bin("next/dist/bin/next"), "typegen"],
    [bin("typescript/bin/tsc"), "--noEmit"],
  ],
  lint: [[bin("@biomejs/biome/bin/biome"), "check", "--colors=off", "."]],
  unit: [[bin("vitest/vitest.mjs"), "run", "--project", "unit", "--project", "apart", "--reporter=dot", "--tags-filter=!long"]],
};

/** Runs a program and keeps what it says until it has ended, so that two do not talk at once. */
function run(args: string[]): Promise<boolean> {
  return new Promise((done) => {
    const child = spawn(process.execPath, args, {
      env: { ...process.env, COMPASS_QUICK: "1", NO_COLOR: "1", NEXT_TELEMETRY_DISABLED: "1" },
    });
    const said: Buffer[] = [];
    for (const stream of [child.stdout, child.stderr]) stream.on("data", (part: Buffer) => said.push(part));
    child.on("exit", (code) => {
      if (code !== 0) process.stderr.write(Buffer.concat(said));
      done(code === 0);
    });
  });
}

const began = Date.now();
const results = await Promise.all(
  Object.entries(CHECKS).map(async ([name, commands]) => {
    let good = true;
    for (const command of commands) good &&= await run(command);
    console.log(`${name}: ${good ? "good" : "FAILED"}, after ${((Date.now() - began) / 1000).toFixed(0)} s`);
    return good;
  }),
);
process.exit(results.every(Boolean) ? 0 : 1);
