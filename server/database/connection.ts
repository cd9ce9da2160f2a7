import { drizzle, type NodePgDatabase } from "drizzle-orm/node-postgres";
import { migrate } from "drizzle-orm/node-postgres/migrator";
import pg from "pg";
import { log } from "../log/logger";
import { readSettings } from "../settings";
import * as schema from "./schema";

export type Database = NodePgDatabase<typeof schema>;
/** The database or a transaction in it. */
export type Connection = Pick<Database, "select" | "insert" | "update" | "delete" | "execute">;

/** Any number all our migrations agree on: two starting processes must not migrate at once. */
const MIGRATION_LOCK = 7_240_113;

interface Opened {
  pool: pg.Pool;
  db: Database;
}

// Kept on the global object, because a development server loads modules anew on every change.
const shared = globalThis as unknown as { compassDatabase?: Opened };

export function database(): Opened {
  shared.compassDatabase ??= open(readSettings().COMPASS_DATABASE_URL);
  return shared.compassDatabase;
}

export function open(url: string | undefined): Opened {
  if (!url) throw new Error("COMPASS_DATABASE_URL is not set. Start the application with `npm start`, which starts a database.");
  const pool = new pg.Pool({ connectionString: url, max: 12 });
  // Without a listener, a server that goes away would end this process.
  pool.on("error", (error) => log.warn({ error: error.message }, "database connection lost"));
  return { pool, db: drizzle(pool, { schema }) };
}

/** Brings the tables up to date. Safe to call from several processes at once. */
export async function migrateDatabase(url: string, folder: string): Promise<void> {
  const client = new pg.Client({ connectionString: url });
  await client.connect();
  try {
    await client.query("SELECT pg_advisory_lock($1)", [MIGRATION_LOCK]);
    await migrate(drizzle(client), { migrationsFolder: folder });
  } finally {
    await client.end();
  }
}
