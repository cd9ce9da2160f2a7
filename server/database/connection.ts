import { drizzle, type NodePgDatabase } from "drizzle-orm/node-postgres";
import pg from "pg";
import { log } from "../log/logger";
import { readSettings } from "../settings";
import * as schema from "./schema";

export type Database = NodePgDatabase<typeof schema>;
/** The database or a transaction in it. */
export type Connection = Pick<Database, "select" | "insert" | "update" | "delete" | "execute">;

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
