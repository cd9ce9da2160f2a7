import { and, eq, gt, isNull, sql } from "drizzle-orm";
import type { Connection, Database } from "../database/connection";
import { shareSessions, shares } from "../database/schema";
import { note } from "../log/commands";
import { Problem } from "../problem";
import { announce } from "../workers/queue";
import type { ShareScope } from "./contract";
import { hashSecret, isPassword, newSecret, SECRET } from "./secrets";

/** A share and the job it leads to, for whoever may see it. */
export interface Access {
  readonly shareId: number;
  readonly jobId: number;
  readonly scope: ShareScope;
  readonly endsAt: Date;
}

/** Name of the cookie that holds a browser's session. It is sent below the share's own address alone. */
export const SESSION_COOKIE = "share";
/** How long a browser need not give the password again. Hours. */
const SESSION_HOURS = 12;
/** Wrong passwords before one has to wait. */
const FREE_TRIES = 5;
/** The first wait, which doubles with each further wrong password, and the longest one. Seconds. */
const FIRST_WAIT = 30;
const LONGEST_WAIT = 3600;

/** What is said of an address nobody knows, and of one that is over: who guesses learns nothing. */
const OVER = "There is nothing at this address, or the link has ended. Ask who sent it for another one.";

/** The share a secret leads to, as long as it is open. @throws Problem when there is none */
async function openShare(db: Connection, secret: string) {
  const [found] = SECRET.test(secret)
    ? await db
        .select()
        .from(shares)
        .where(and(eq(shares.secretHash, hashSecret(secret)), isNull(shares.revokedAt), gt(shares.endsAt, sql`now()`)))
    : [];
  if (!found) throw new Problem(OVER, 404);
  return found;
}

/**
 * Opens a share by its password. A try counts before it is looked at, so that many at once are no way past the waiting; the right one
 * makes them forgotten.
 * @param from the address that asks, for the log
 * @returns the secret of the session and when it ends
 * @throws Problem when the share is over, the password is wrong, or it is to be waited
 */
export async function enter(db: Database, secret: string, password: string, from: string): Promise<{ session: string; endsAt: Date }> {
  const found = await openShare(db, secret);
  const { rows } = await db.execute<{ tries: number }>(sql`
    update shares set tries = tries + 1, next_try_at = case when tries + 1 >= ${FREE_TRIES}
      then now() + make_interval(secs => least(${LONGEST_WAIT}, ${FIRST_WAIT} * power(2, least(tries + 1 - ${FREE_TRIES}, 20)))) end
    where id = ${found.id} and (next_try_at is null or next_try_at <= now()) returning tries`);
  const [tried] = rows;
  if (!tried) throw new Problem("Too many wrong passwords. Wait a while, then try again.", 429);
  if (!(await isPassword(password, found.passwordHash))) {
    await note(db, found.jobId, "Wrong password for a shared link", { link: found.id, address: from, tries: tried.tries });
    await announce(db, found.jobId);
    throw new Problem("This is not the password.", 403);
  }
  const session = newSecret();
  return db.transaction(async (tx) => {
    await tx.execute(sql`update shares set tries = 0, next_try_at = null, last_opened_at = now() where id = ${found.id}`);
    await tx.execute(sql`delete from share_sessions where ends_at <= now()`);
    const endsAt = new Date(Math.min(found.endsAt.getTime(), Date.now() + SESSION_HOURS * 3_600_000));
    await tx.insert(shareSessions).values({ secretHash: hashSecret(session), shareId: found.id, endsAt });
    await note(tx, found.jobId, "Shared link opened", { link: found.id, address: from });
    await announce(tx, found.jobId);
    return { session, endsAt };
  });
}

/** What a browser with this session may see under this address; null: it has to give the password first. @throws Problem when the share is over */
export async function accessOf(db: Connection, secret: string, session: string | undefined): Promise<Access | null> {
  const found = await openShare(db, secret);
  if (session === undefined || !SECRET.test(session)) return null;
  const [held] = await db
    .select({ shareId: shareSessions.shareId })
    .from(shareSessions)
    .where(
      and(eq(shareSessions.secretHash, hashSecret(session)), eq(shareSessions.shareId, found.id), gt(shareSessions.endsAt, sql`now()`)),
    );
  return held ? { shareId: found.id, jobId: found.jobId, scope: found.scope, endsAt: found.endsAt } : null;
}

/** Says whether a link that was open is so still. */
export async function isStillOpen(db: Connection, { shareId }: Access): Promise<boolean> {
  const rows = await db
    .select({ id: shares.id })
    .from(shares)
    .where(and(eq(shares.id, shareId), isNull(shares.revokedAt), gt(shares.endsAt, sql`now()`)));
  return rows.length > 0;
}

/** Ends a browser's session. */
export async function leave(db: Connection, session: string | undefined): Promise<void> {
  if (session !== undefined) await db.delete(shareSessions).where(eq(shareSessions.secretHash, hashSecret(session)));
}

/** The value of a cookie in a request (RFC 6265, 5.4). */
export function sessionIn(request: Request): string | undefined {
  const pairs = (request.headers.get("cookie") ?? "").split(";").map((pair) => pair.trim());
  return pairs.find((pair) => pair.startsWith(`${SESSION_COOKIE}=`))?.slice(SESSION_COOKIE.length + 1);
}

/** The cookie that keeps a session, for this share's own address (RFC 6265bis: never read by scripts, nor sent from other sites). */
export const sessionCookie = (secret: string, session: string, endsAt: Date, encrypted: boolean): string =>
  `${SESSION_COOKIE}=${session}; Path=/shared/${secret}; Expires=${endsAt.toUTCString()}; HttpOnly; SameSite=Strict${encrypted ? "; Secure" : ""}`;

/** What may be done under a share's address by this request. @throws Problem when it may not be done */
export async function permitted(db: Connection, secret: string, request: Request, scope?: ShareScope): Promise<Access> {
  const access = await accessOf(db, secret, sessionIn(request));
  if (!access) throw new Problem("Give the password first.", 401);
  if (scope && access.scope !== scope) throw new Problem("This link does not lead there.", 404);
  return access;
}
