import type { Working } from "@/server/records/contract";
import { countText } from "../instruments/words";

/** Says how far the reading of a database is. */
export function workingText({ what, done }: Working): string {
  const rows = countText(done);
  if (what === "rows") return `Reading the database: ${rows} rows so far.`;
  return what === "entries"
    ? `Finding out what the rows are: ${rows} so far.`
    : `Finding out which files are mentioned: ${rows} entries so far.`;
}
