import { drizzle, type NodePgDatabase } from "drizzle-orm/node-postgres";
import pg from "pg";
import { log } from "../log/logger";
import { codeOf } from "../problem";
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
const shared = globalThis as unknown as { compassDatabase?: Opened; compassCounting?: Opened };

export function database(): Opened {
  shared.compassDatabase ??= open(readSettings().COMPASS_DATABASE_URL);
  return shared.compassDatabase;
}

/**
 * Connections for counting over long lists. They are few and use one processor each, so that counts on their way, even those
 * nobody waits for any more, never hold up what a person is typing.
 */
export function counting(): Opened {
  shared.compassCounting ??= open(readSettings().COMPASS_DATABASE_URL, { max: 2, options: "-c max_parallel_workers_per_gather=0" });
  return shared.compassCounting;
}

/**
 * What the database answers when it ends or is not up yet (PostgreSQL, appendix A: classes 08 and 57), and the system when nothing
 * listens (errno(3)).
 */
const LOST: ReadonlySet<string> = new Set([
  // An idle transaction that was ended by the server.
  "25P03",
  // Out of disk, memory or connections (class 53): it serves again when there is room.
  ...["53100", "53200", "53300"],
  ...["08000", "08001", "08003", "08004", "08006", "57P01", "57P02", "57P03"],
  ...["ECONNREFUSED", "ECONNRESET", "EPIPE"],
]);
/** What the system answers when a server cannot be reached; of anything but connecting it means something else (a drive of a network). */
const UNREACHABLE: ReadonlySet<string> = new Set(["ETIMEDOUT", "ENOTFOUND", "EHOSTUNREACH", "ENETUNREACH"]);

/** Whether an error means that the database is not there just now, or cannot take anything. */
export function isDatabaseLost(error: unknown): boolean {
  if (!(error instanceof Error)) return false;
  const { syscall = "" } = error as NodeJS.ErrnoException;
  if (UNREACHABLE.has(codeOf(error)) && (syscall === "connect" || syscall.startsWith("getaddrinfo"))) return true;
  if (LOST.has(codeOf(error)) || /^Connection terminated|^Client has encountered a connection error/.test(error.message)) return true;
  return error.cause !== undefined && isDatabaseLost(error.cause);
}

export function open(url: string | undefined, settings: { max: number; options?: string } = { max: 12 }): Opened {
  if (!url) throw new Error("COMPASS_DATABASE_URL is not set. Start the application with `npm start`, which starts a database.");
  const pool = new pg.Pool({ connectionString: url, ...settings });
  // Without a listener, a server that goes away would end this process.
  pool.on("error", (error) => log.warn({ error: error.message }, "database connection lost"));
  // A connection in use may lose its server too: the query that uses it fails, and this keeps the process.
  pool.on("connect", (client) => client.on("error", (error) => log.warn({ error: error.message }, "database connection lost")));
  return { pool, db: drizzle(pool, { schema }) };
}

/**
 * Opens one connection outside the pool, gives it to `use` and closes it. A server that goes away fails the query on its way; without a
 * listener it would end this process.
 */
export async function withClient<T>(url: string, use: (client: pg.Client) => Promise<T>): Promise<T> {
  const client = new pg.Client({ connectionString: url });
  client.on("error", () => undefined);
  await client.connect();
  try {
    return await use(client);
  } finally {
    await client.end();
  }
}
