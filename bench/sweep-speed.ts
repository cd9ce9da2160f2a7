import { planSweep } from "../core/sweep/plan-sweep";
import { sweep } from "../core/sweep/sweep";
import { ReadOnlyFile } from "../io/read-only-file";

/** Sweeps files on one thread, one after the other: `sweep-speed.js sectors|every FILE…`. */
const [, , how, ...paths] = process.argv;
let finds = 0;
for (const path of paths) {
  const disk = new ReadOnlyFile(path);
  const range = { start: 0, end: disk.size };
  const plan = planSweep({ range, unusedOnly: false, skip: [], everyByte: how === "every", formats: null }, null);
  for (const batch of sweep(disk, plan)) finds += batch.finds.length;
  disk.close();
}
process.stderr.write(`${finds} finds\n`);
