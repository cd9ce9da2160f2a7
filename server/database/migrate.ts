import { drizzle } from "drizzle-orm/node-postgres";
import { migrate } from "drizzle-orm/node-postgres/migrator";
import { runMigrations } from "graphile-worker";
import { withClient } from "./connection";

const FOLDER = "server/database/migrations";
/** Any number all our migrations agree on: two starting processes must not migrate at once. */
const LOCK = 7_240_113;

/** Brings our tables and those of the work queue up to date. Safe to call from several processes at once. */
export async function migrateDatabase(url: string): Promise<void> {
  await withClient(url, async (client) => {
    await client.query("SELECT pg_advisory_lock($1)", [LOCK]);
    await migrate(drizzle(client), { migrationsFolder: FOLDER });
    await runMigrations({ connectionString: url });
  });
}
