import { planSweep } from "../core/sweep/plan-sweep";
import { sweep } from "../core/sweep/sweep";
import { ReadOnlyFile } from "../io/read-only-file";

/** Sweeps a file on one thread: `sweep-speed.js FILE [every]`. */
const [, , path = "", how] = process.argv;
const disk = new ReadOnlyFile(path);
const plan = planSweep(
  { range: { start: 0, end: disk.size }, unusedOnly: false, skip: [], everyByte: how === "every", formats: null },
  null,
);
let finds = 0;
for (const batch of sweep(disk, plan)) finds += batch.finds.length;
disk.close();
process.stderr.write(`${finds} finds\n`);
