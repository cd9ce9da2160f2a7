import initSql from "sql.js";

/** A chat of so many lines by a few members, ten minutes apart from 2020 on, made by SQLite itself (the package sql.js). */
export async function longChat(lines: number, members: number): Promise<Uint8Array> {
  const sql = await initSql();
  const database = new sql.Database();
  database.run("create table folk(id integer primary key, name text, mail text)");
  for (let i = 1; i <= members; i += 1) database.run("insert into folk values(?, ?, ?)", [i, `Member ${i}`, `member${i}@mail.example`]);
  database.run("create table lines(id integer primary key, folk_id integer, body text, sent integer)");
  database.run(
    `with recursive n(i) as (select 1 union all select i + 1 from n where i < ${lines})
     insert into lines select i, 1 + i % ${members}, 'line ' || i || ' of a long talk about ' || case i % 7 when 0 then 'the dome' else 'rails and wheels' end, ${Date.UTC(2020, 0, 1)} + i * 600000 from n`,
  );
  const bytes = database.export();
  database.close();
  return bytes;
}
