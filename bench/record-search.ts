import { spawnSync } from "node:child_process";
import { toEnd } from "../core/bytes/stepwise";
import { readEntries } from "../core/records/entries/entries";
import { RowTable } from "../core/records/row-table";
import { openRecords } from "../io/records";

const WORDS = ["a", "e", "lantern", "2020-09-1", "zz", "ferry rivet", "timber ti", "kettle kettle", "1", "no such word"];
const ROUNDS = 5;

/** Keeps the rows of a large database as the bench's view of records does, and searches them: each word several times, against SQLite's own search of the same file. */
const [, , path = ""] = process.argv;
const opened = openRecords(path, { deleted: true });
if (!opened) throw new Error(`${path} is no database`);
const began = performance.now();
const table = new RowTable("messages", ["id", "guid", "who", "body", "sent", "flag"]);
for (const row of opened.reader.rows()) table.append(row, Number.POSITIVE_INFINITY);
toEnd(table.finish());
opened.close();
const read = performance.now();
const { byKind } = toEnd(readEntries([table], Date.now() / 1000));
const list = [...byKind.values()][0];
const recognised = performance.now();
const MIB = 2 ** 20;
console.log(
  `${table.rows.length} rows kept in ${((read - began) / 1000).toFixed(1)} s, known as what they are in ${((recognised - read) / 1000).toFixed(1)} s; ${Math.round(process.memoryUsage().rss / MIB)} MiB in all`,
);

/** The middle and the 95th of a hundred of times, in milliseconds. */
function report(what: string, search: (words: string) => unknown): void {
  const times: number[] = [];
  for (let round = 0; round < ROUNDS; round += 1)
    for (const words of WORDS) {
      const start = performance.now();
      search(words);
      times.push(performance.now() - start);
    }
  times.sort((a, b) => a - b);
  const at = (share: number) => Math.round(times[Math.min(times.length - 1, Math.floor(times.length * share))] as number);
  console.log(`| ${what} | ${at(0.5)} ms | ${at(0.95)} ms |`);
}

console.log("\n| search of all rows for one of ten words | half of the times | 95 % |\n| --- | --- | --- |");
report("rows, in every column", (words) => table.find({ words, only: "all" }));
report("messages and the like", (words) => list?.find({ words, only: "all", talk: "", who: "", since: null, until: null }));
report("`sqlite3`, `like` in one column, with its start", (words) =>
  spawnSync("sqlite3", ["-readonly", path, `select count(*) from messages where body like '%${words}%'`]),
);
