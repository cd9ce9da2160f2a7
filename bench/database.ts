import { existsSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import initSql from "sql.js";
import { seeded } from "../demo/draw";

const WORDS = "harbour lantern timber mosaic kettle ferry rivet plaster willow cobalt".split(" ");

/** Makes a database of so many messages, a tenth of them deleted, once. @returns its path */
export async function bigDatabase(folder: string, rows: number): Promise<string> {
  const path = join(folder, `messages-${rows}.db`);
  if (existsSync(path)) return path;
  const sql = await initSql();
  const database = new sql.Database();
  database.run("pragma secure_delete = off");
  database.run("create table messages(id integer primary key, guid text not null, who integer, body text, sent integer, flag integer)");
  const random = seeded(5);
  database.run("begin");
  const insert = database.prepare("insert into messages(guid, who, body, sent, flag) values(?, ?, ?, ?, ?)");
  for (let i = 0; i < rows; i += 1) {
    const guid = Math.floor(random() * 2 ** 48).toString(16);
    const body = Array.from({ length: 3 + Math.floor(random() * 13) }, () => WORDS[Math.floor(random() * WORDS.length)]).join(" ");
    insert.run([guid, Math.floor(random() * 50), body, 1_600_000_000 + i * 30, Math.floor(random() * 2)]);
  }
  insert.free();
  database.run("commit");
  database.run("delete from messages where id % 10 = 3");
  writeFileSync(path, database.export());
  database.close();
  return path;
}
