import { writeJoined } from "../io/join-records";
import type { Options } from "./options";
import { flush, line, say } from "./output";
import { EXIT, Usage } from "./usage";

/** `compass join`: what several databases of one kind hold together, as a new one. */
export async function joinFiles(files: readonly string[], options: Options): Promise<number> {
  const { to } = options;
  if (files.length < 2) throw new Usage("Name two databases or more.");
  if (to === undefined) throw new Usage("Say with --to where the joined database goes.");
  const { tables, notes, leftOut: never } = await writeJoined(files, to);
  for (const { name, rows, identity, versions, leftOut } of tables) {
    const deleted = rows.filter((row) => row.deleted).length;
    const only = files.map((_, i) => rows.filter(({ from }) => from.length === 1 && from[0] === i).length);
    line(
      options.json,
      {
        table: name,
        rows: rows.length,
        deleted,
        identity,
        versions,
        leftOut,
        onlyIn: Object.fromEntries(files.map((file, i) => [file, only[i]])),
      },
      `${name}\t${rows.length} rows, ${deleted} of them put together from what is left\tsame by ${identity}`,
    );
  }
  flush();
  for (const note of [...notes, ...never]) say(note);
  return notes.length > 0 ? EXIT.problems : EXIT.done;
}
