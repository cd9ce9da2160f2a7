import { closeSync, fsyncSync, openSync, writeSync } from "node:fs";
import initSql from "sql.js";
import { type Joined, joinRecords } from "../core/records/join";
import { openRecords } from "./records";
import { SourceError } from "./source-error";

/** Writes what several databases hold together into a new one, with a list of its rows beside it (NAME.rows.csv). @throws SourceError in words for a person */
export async function writeJoined(paths: readonly string[], to: string): Promise<Joined> {
  const opened = paths.map((path) => {
    const records = openRecords(path, { deleted: true });
    if (!records) throw new SourceError(`${path} is no database this bench reads, or nothing of one is left in it.`);
    return { name: path, ...records };
  });
  let joined: Joined;
  try {
    joined = joinRecords(opened);
  } finally {
    for (const each of opened) each.close();
  }
  if (joined.tables.length === 0)
    throw new SourceError("None of these databases still says which tables it has: there is nothing to join them by.");
  writeNew(to, await asDatabase(joined));
  writeNew(`${to}.rows.csv`, Buffer.from(listOf(joined, paths)));
  return joined;
}

const quoted = (name: string) => `"${name.replaceAll('"', '""')}"`;

/** A new database with the joined rows, as its bytes. @throws SourceError when SQLite refuses them */
export async function asDatabase({ schema, tables }: Joined): Promise<Uint8Array> {
  const sql = await initSql();
  const database = new sql.Database();
  try {
    const make = (wanted: (type: string) => boolean) => {
      for (const { type, name, sql: statement } of schema) if (wanted(type) && !name.startsWith("sqlite_")) database.run(statement);
    };
    make((type) => type === "table");
    database.run("begin");
    for (const { name, columns, rows, hasRowId, computed } of tables) {
      const written = <T>(each: readonly T[]) => each.filter((_, i) => !computed[i]);
      const names = [...(hasRowId ? ["rowid"] : []), ...written(columns)];
      const insert = database.prepare(
        `insert into ${quoted(name)}(${names.map(quoted).join(",")}) values(${names.map(() => "?").join(",")})`,
      );
      for (const { rowid, values } of rows) {
        const all = [...(hasRowId ? [rowid] : []), ...written(values)];
        insert.run(all.map((value) => (typeof value === "bigint" ? value.toString() : value)));
      }
      insert.free();
    }
    database.run("commit");
    make((type) => type !== "table");
    return database.export();
  } catch (error) {
    throw new SourceError(`The joined database cannot be written: ${(error as Error).message}.`);
  } finally {
    database.close();
  }
}

/** Of each row of the joined database where it is from (RFC 4180). */
function listOf({ tables }: Joined, paths: readonly string[]): string {
  const field = (text: string) => (/[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text);
  const lines = ["table,rowid,deleted,from"];
  for (const { name, rows } of tables)
    for (const { rowid, deleted, from } of rows)
      lines.push([name, String(rowid ?? ""), deleted ? "yes" : "no", from.map((each) => paths[each]).join("; ")].map(field).join(","));
  return `${lines.join("\r\n")}\r\n`;
}

/** Writes a file that is not there yet. */
function writeNew(path: string, bytes: Uint8Array): void {
  let file: number;
  try {
    file = openSync(path, "wx");
  } catch (error) {
    const { code } = error as NodeJS.ErrnoException;
    throw new SourceError(code === "EEXIST" ? `${path} is there already: nothing is replaced.` : `${path} cannot be written.`);
  }
  try {
    for (let done = 0; done < bytes.length; ) done += writeSync(file, bytes, done);
    fsyncSync(file);
  } finally {
    closeSync(file);
  }
}
