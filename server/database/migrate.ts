import { drizzle } from "drizzle-orm/node-postgres";
import { migrate } from "drizzle-orm/node-postgres/migrator";
import { runMigrations } from "graphile-worker";
import pg from "pg";

const FOLDER = "server/database/migrations";
/** Any number all our migrations agree on: two starting processes must not migrate at once. */
const LOCK = 7_240_113;

/** Brings our tables and those of the work queue up to date. Safe to call from several processes at once. */
export async function migrateDatabase(url: string): Promise<void> {
  const client = new pg.Client({ connectionString: url });
  await client.connect();
  try {
    await client.query("SELECT pg_advisory_lock($1)", [LOCK]);
    await migrate(drizzle(client), { migrationsFolder: FOLDER });
    await runMigrations({ connectionString: url });
  } finally {
    await client.end();
  }
}
