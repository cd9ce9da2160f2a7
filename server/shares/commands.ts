import { and, eq, isNull, sql } from "drizzle-orm";
import type { Connection, Database } from "../database/connection";
import { shareChoices, shareSessions, shares } from "../database/schema";
import { note } from "../log/commands";
import { Problem } from "../problem";
import { changeTray } from "../tray/commands";
import { announce } from "../workers/queue";
import type { Access } from "./access";
import { shareAddress } from "./address";
import type { MadeShare, NewShare } from "./contract";
import { hashPassword, hashSecret, newPassword, newSecret } from "./secrets";

/** Links a job has at most that are open at the same time. */
const MOST_OPEN = 50;
/** Files a client may choose by one link. */
const MOST_CHOSEN = 20_000;

/** Makes a link to a job. Its address and its password are given here and kept nowhere. @throws Problem when sharing is not switched on */
export async function makeShare(db: Database, jobId: number, { scope, label, days, password }: NewShare): Promise<MadeShare> {
  const begin = shareAddress();
  if (begin === null) throw new Problem("Sharing is not switched on: start the bench with COMPASS_SHARE_HOST.", 409);
  const secret = newSecret();
  const word = password || newPassword();
  const passwordHash = await hashPassword(word);
  const endsAt = new Date(Date.now() + days * 86_400_000);
  const id = await db.transaction(async (tx) => {
    const { rows } = await tx.execute<{ open: number }>(
      sql`select count(*)::int as open from shares where job_id = ${jobId} and revoked_at is null and ends_at > now()`,
    );
    if ((rows[0]?.open ?? 0) >= MOST_OPEN) throw new Problem(`A job has ${MOST_OPEN} open links at most: end one of them first.`, 409);
    const [row] = await tx
      .insert(shares)
      .values({ jobId, scope, label, endsAt, passwordHash, secretHash: hashSecret(secret) })
      .returning({ id: shares.id });
    await note(tx, jobId, "Link shared", { link: row?.id, leadsTo: scope, for: label, until: endsAt.toISOString() });
    await announce(tx, jobId);
    return (row as { id: number }).id;
  });
  return { id, address: `${begin}/shared/${secret}`, password: word };
}

/** Ends a link at once: nobody is let in any more, and who is in is out. */
export async function revokeShare(db: Database, jobId: number, shareId: number): Promise<void> {
  await db.transaction(async (tx) => {
    const ended = await tx
      .update(shares)
      .set({ revokedAt: sql`now()` })
      .where(and(eq(shares.id, shareId), eq(shares.jobId, jobId), isNull(shares.revokedAt)))
      .returning({ id: shares.id });
    if (ended.length === 0) throw new Problem("There is no such link, or it was ended before.", 404);
    await tx.delete(shareSessions).where(eq(shareSessions.shareId, shareId));
    await note(tx, jobId, "Shared link ended", { link: shareId });
    await announce(tx, jobId);
  });
}

/** Puts what a client chose into the tray. */
export async function takeChoices(db: Database, jobId: number, shareId: number): Promise<void> {
  const rows = await db
    .select({ copyId: shareChoices.copyId })
    .from(shareChoices)
    .innerJoin(shares, eq(shares.id, shareChoices.shareId))
    .where(and(eq(shareChoices.shareId, shareId), eq(shares.jobId, jobId)));
  if (rows.length === 0) throw new Problem("Nothing was chosen by this link.", 409);
  await changeTray(db, jobId, { copies: rows.map(({ copyId }) => copyId), chosen: true });
  await note(db, jobId, "What a client chose put into the tray", { link: shareId, files: rows.length });
}

/** Keeps what a client chooses, or takes back. Only copies of the job the link leads to count. */
export async function choose(db: Database, { shareId, jobId }: Access, copyIds: readonly number[], chosen: boolean): Promise<void> {
  const ids = sql.raw(`'{${copyIds.map(Math.trunc).join(",")}}'::bigint[]`);
  if (chosen) {
    await db.transaction(async (tx) => {
      // One after the other, so that the bound holds for several at once.
      await tx.execute(sql`select 1 from shares where id = ${shareId} for update`);
      await tx.execute(sql`
        insert into share_choices (share_id, copy_id) select ${shareId}::int, c.id from copies c
        where c.job_id = ${jobId} and c.id = any(${ids}) and c.item_id is not null on conflict do nothing`);
      if ((await countChoices(tx, shareId)) > MOST_CHOSEN)
        throw new Problem(`By one link ${MOST_CHOSEN.toLocaleString("en")} files can be chosen at most.`, 409);
    });
    // A file is one row in the list, whichever of its copies was shown when it was chosen.
  } else
    await db.execute(sql`
      delete from share_choices s using copies c, copies meant
      where s.share_id = ${shareId} and c.id = s.copy_id and meant.id = any(${ids}) and meant.item_id = c.item_id`);
  await announce(db, jobId);
}

async function countChoices(db: Connection, shareId: number): Promise<number> {
  const { rows } = await db.execute<{ n: number }>(sql`select count(*)::int as n from share_choices where share_id = ${shareId}`);
  return rows[0]?.n ?? 0;
}
