import pg from "pg";

/** Kinds and endings of the invented files. */
const ENDINGS = "array['docx','jpg','txt','xlsx','pdf','mp3']";
const KINDS = "array['documents','pictures','documents','sheets','documents','audio']";

/**
 * A job with very many items, made by the database itself: one volume, 2,000 folders, one copy each.
 * @returns the job's id
 */
export async function manyItems(url: string, count: number): Promise<number> {
  const client = new pg.Client({ connectionString: url });
  await client.connect();
  try {
    const one = async (sql: string, values: unknown[] = []) => (await client.query<{ id: string }>(sql, values)).rows[0]?.id as string;
    const job = await one("insert into jobs (title, client) values ('A very large drive', 'Larkfield Observatory Society') returning id");
    const source = await one(
      "insert into sources (job_id, path, name, size, container, table_kind, notes) values ($1, '/none/large.img', 'large.img', 4000000000000, 'raw', 'none', '[]') returning id",
      [job],
    );
    const volume = await one(
      "insert into stores (source_id, number, offset_bytes, length_bytes, filesystem, readable, notes) values ($1, 0, 0, 4000000000000, 'ntfs', true, '[]') returning id",
      [source],
    );
    const home = await one("insert into homes (job_id, label) values ($1, 'large.img') returning id", [job]);
    await client.query("insert into home_paths (store_id, home_id) values ($1, $2)", [volume, home]);
    await client.query(
      "insert into passes (job_id, source_id, store_id, place, state, done, total, found_lost) values ($1, $2, $3, 'file-record', 'done', $4::int, $4::int, $4::int)",
      [job, source, volume, count],
    );
    const first = Number(
      await one(
        `with made as (insert into folders (job_id, home_id, path, folded)
           select $1, $2, path, folded_path(path, false) from generate_series(0, 1999) n, concat('/Users/mo/Archive ', n % 40, '/Box ', n) path returning id)
         select min(id) as id from made`,
        [job, home],
      ),
    );
    // Of very many, rows first, indexes afterwards: many times quicker than keeping them up to date.
    const { rows: indexes } = await client.query<{ indexname: string; indexdef: string }>(
      "select indexname, indexdef from pg_indexes where $1::int >= 100000 and tablename in ('items', 'copies') and indexname not like '%pkey'",
      [count],
    );
    for (const { indexname } of indexes) await client.query(`drop index ${pg.escapeIdentifier(indexname)}`);
    const name = `'Night log ' || n || ' of star ' || (n::bigint * 7919 % 100003) || '.' || (${ENDINGS})[1 + n % 6]`;
    const shared = `(array['whole','partial','name-only','whole'])[1 + n % 4], (array[1, 0.5, 0, 1])[1 + n % 4], (n::bigint * 37 % 900000), timestamptz '2019-01-01' + n * interval '190 seconds'`;
    await client.query(
      `insert into copies (job_id, pass_id, store_id, item_id, folder_id, place, state, type, reference, name, name_raw, condition, survival, size, modified, evidence, notes)
       select $1, 0, $2, n, $3 + n % 2000, 'file-record', 'deleted', 'file', 'record ' || n, ${name}, '', ${shared},
         '{"usedByOthers":0,"takenLater":0,"lost":0,"unreadable":0,"content":null}', '[]' from generate_series(1, $4::int) n`,
      [job, volume, first, count],
    );
    const { rows } = await client.query<{ low: string; high: string }>(
      "select coalesce(max(id), 0) as high, min(id) as low from copies where job_id = $1",
      [job],
    );
    await client.query(
      `insert into items (job_id, stores, folder_id, key, name, kind, lost, places, best_copy_id, condition, survival, size, modified)
       select $1, array[$2::int], $3 + n % 2000, 'k' || n, ${name}, (${KINDS})[1 + n % 6], true, array['file-record'], $5 + n - 1, ${shared} from generate_series(1, $4::int) n`,
      [job, volume, first, count, rows[0]?.low],
    );
    await client.query(
      "update copies c set item_id = i.id from items i where i.job_id = $1 and i.best_copy_id = c.id and c.job_id = $1 and i.id <> c.item_id",
      [job],
    );
    for (const { indexdef } of indexes) await client.query(indexdef);
    await client.query("analyze items; analyze copies; analyze folders");
    return Number(job);
  } finally {
    await client.end();
  }
}

/**
 * Adds copies and their items to such a job while it is looked at, as a quick pass would: a batch a quarter of a second,
 * each announced to whoever follows the job.
 * @param seconds for how long at most @param enough whether that is long enough
 * @returns copies a second that were really written
 */
export async function keepWriting(url: string, job: number, perSecond: number, seconds: number, enough = () => false): Promise<number> {
  const client = new pg.Client({ connectionString: url });
  await client.connect();
  try {
    const { rows } = await client.query<{ folder: number; volume: number }>(
      "select min(f.id) as folder, min(p.store_id) as volume from folders f join home_paths p on p.home_id = f.home_id where f.job_id = $1",
      [job],
    );
    const { folder, volume } = rows[0] as { folder: number; volume: number };
    const batch = Math.floor(perSecond / 4);
    const began = Date.now();
    let written = 0;
    while (Date.now() - began < seconds * 1000 && !enough()) {
      const due = began + (written / perSecond) * 1000;
      await new Promise((done) => setTimeout(done, Math.max(0, due - Date.now())));
      await client.query(
        `with made as (
           insert into copies (job_id, pass_id, store_id, folder_id, place, state, type, reference, name, name_raw, condition, survival, size, evidence, notes)
           select $1, 0, $2, $3, 'file-record', 'deleted', 'file', 'record', 'Plate ' || ($4 + n) || '.jpg', '', 'whole', 1, n,
             '{"usedByOthers":0,"takenLater":0,"lost":0,"unreadable":0,"content":null}', '[]' from generate_series(1, $5::int) n
           returning id, name, size)
         insert into items (job_id, stores, folder_id, key, name, kind, lost, places, best_copy_id, condition, survival, size)
         select $1, array[$2::int], $3, 'w' || id, name, 'pictures', true, array['file-record'], id, 'whole', 1, size from made`,
        [job, volume, folder, written, batch],
      );
      await client.query("select pg_notify('compass', $1)", [`${job} changed`]);
      written += batch;
    }
    return written / ((Date.now() - began) / 1000);
  } finally {
    await client.end();
  }
}
