import { fileRecordsPass } from "../core/copies/file-records-pass";
import { openVolume } from "../core/volumes/inspect";
import { openSource } from "../io/open-source";

/** The pass over file records alone: every copy is made and looked at, none is written. */
const [, , path = ""] = process.argv;
const source = openSource(path);
let copies = 0;
for (const report of source.report.volumes)
  for (const batch of fileRecordsPass(openVolume(source.disk, report), source.disk)) copies += batch.copies.length;
source.close();
console.log(copies);
