import { and, eq, inArray, sql } from "drizzle-orm";
import type { Connection, Database } from "../database/connection";
import { homePaths, homes, sources, stores } from "../database/schema";
import { note } from "../log/commands";
import { Problem } from "../problem";
import { announce } from "../workers/queue";
import type { ChangeHomes } from "./contract";
import { regather } from "./regather";

/** Changes which home's paths the stores of a job have, and gathers what stands in them anew. */
export async function changeHomes(db: Database, jobId: number, change: ChangeHomes): Promise<void> {
  await db.transaction(async (tx) => {
    if ("join" in change) await joinHomes(tx, jobId, change.join, change.into);
    else if ("part" in change) await partStore(tx, jobId, change.part, change.below);
    else if ("store" in change) await placeStore(tx, jobId, change);
    else await renameHome(tx, jobId, change.rename, change.label);
    await announce(tx, jobId);
  });
}

const BY_HAND = "Joined by hand.";

async function joinHomes(tx: Connection, jobId: number, homeId: number, intoId: number): Promise<void> {
  const [home, into] = [await homeOf(tx, jobId, homeId), await homeOf(tx, jobId, intoId)];
  if (home.id === into.id) throw new Problem("Choose another drive to join this one with.");
  const rows = await tx.select().from(homePaths).where(eq(homePaths.homeId, homeId));
  const both = rows.map(({ storeId }) => storeId);
  const taken = await tx
    .select()
    .from(homePaths)
    .where(and(eq(homePaths.homeId, intoId), inArray(homePaths.storeId, both)));
  if (taken.length > 0) throw new Problem(`A store shows folders of both ${home.label} and ${into.label}: they are two drives.`, 409);
  await regather(tx, jobId, both, async () => {
    await tx
      .update(homePaths)
      .set({ homeId: intoId, reason: sql`coalesce(${homePaths.reason}, ${BY_HAND})` })
      .where(eq(homePaths.homeId, homeId));
  });
  await note(tx, jobId, "Drives joined", { drive: home.label, with: into.label });
}

async function partStore(tx: Connection, jobId: number, storeId: number, below: string): Promise<void> {
  const label = await labelOf(tx, jobId, storeId);
  const [row] = await tx
    .select()
    .from(homePaths)
    .where(and(eq(homePaths.storeId, storeId), eq(homePaths.below, below)));
  if (!row) throw new Problem("This folder is of no drive of its own.", 404);
  const others = await tx.select().from(homePaths).where(eq(homePaths.homeId, row.homeId));
  if (others.length === 1) throw new Problem("Nothing else shows this drive: there is nothing to part it from.", 409);
  const mine = and(eq(homePaths.storeId, storeId), eq(homePaths.below, below));
  await regather(tx, jobId, [storeId], async () => {
    if (below !== "") await tx.delete(homePaths).where(mine);
    else {
      const [own] = await tx
        .insert(homes)
        .values({ jobId, label, caseSensitive: await isCaseSensitive(tx, row.homeId) })
        .returning();
      if (own) await tx.update(homePaths).set({ homeId: own.id, at: "", reason: null }).where(mine);
    }
  });
  await note(tx, jobId, "Drives parted", { store: label, ...(below ? { folder: below } : {}) });
}

async function isCaseSensitive(tx: Connection, homeId: number): Promise<boolean> {
  const [row] = await tx.select({ caseSensitive: homes.caseSensitive }).from(homes).where(eq(homes.id, homeId));
  return row?.caseSensitive ?? false;
}

interface Placed {
  readonly store: number;
  readonly below: string;
  readonly home: number;
  readonly at: string;
}

async function placeStore(tx: Connection, jobId: number, { store, below, home, at }: Placed): Promise<void> {
  const label = await labelOf(tx, jobId, store);
  const { label: homeLabel } = await homeOf(tx, jobId, home);
  const others = (await tx.select().from(homePaths).where(eq(homePaths.storeId, store))).filter((row) => row.below !== below);
  // Where one folder of a home is shown twice by a store, it could not be known any more which of the two a file stands in.
  const twice = others.find((row) => row.homeId === home && (isWithin(row.at, at) || isWithin(at, row.at)));
  if (twice)
    throw new Problem(
      `“${twice.below || label}” of this store already stands for this folder of ${homeLabel}: one store can show a folder only once.`,
      409,
    );
  await regather(tx, jobId, [store], async () => {
    await tx
      .insert(homePaths)
      .values({ storeId: store, below, homeId: home, at, reason: BY_HAND })
      .onConflictDoUpdate({ target: [homePaths.storeId, homePaths.below], set: { homeId: home, at, reason: BY_HAND } });
  });
  await note(tx, jobId, "Store placed", { store: label, folder: below || "/", drive: homeLabel, at: at || "/" });
}

const isWithin = (path: string, folder: string) => `${path.toLowerCase()}/`.startsWith(`${folder.toLowerCase()}/`);

async function renameHome(tx: Connection, jobId: number, homeId: number, label: string): Promise<void> {
  const { label: before } = await homeOf(tx, jobId, homeId);
  await tx.update(homes).set({ label }).where(eq(homes.id, homeId));
  await note(tx, jobId, "Drive renamed", { from: before, to: label });
}

async function homeOf(tx: Connection, jobId: number, homeId: number) {
  const [row] = await tx
    .select()
    .from(homes)
    .where(and(eq(homes.id, homeId), eq(homes.jobId, jobId)));
  if (!row) throw new Problem("There is no such drive in this job.", 404);
  return row;
}

async function labelOf(tx: Connection, jobId: number, storeId: number): Promise<string> {
  const [row] = await tx
    .select({ label: stores.label, number: stores.number })
    .from(stores)
    .innerJoin(sources, eq(sources.id, stores.sourceId))
    .where(and(eq(stores.id, storeId), eq(sources.jobId, jobId)));
  if (!row) throw new Problem("There is no such store in this job.", 404);
  return row.label ?? `volume ${row.number}`;
}

/**
 * Gives new stores their homes: that of a store which shows the same drive by what both say of themselves, otherwise one of their own.
 * Nothing has been found in them yet.
 */
export async function findHomes(tx: Connection, jobId: number, sourceId: number): Promise<void> {
  // A drive of several volumes bears the name of the one its system starts from.
  const { rows } = await tx.execute<{ id: number; label: string }>(sql`
    select v.id, coalesce(m.label, v.label, 'volume ' || v.number) as label from stores v
    left join lateral (select o.label from stores o where o.source_id = v.source_id and o.identity->>'drive' = v.identity->>'drive'
      and o.identity->>'part' = 'system' limit 1) m on true
    where v.source_id = ${sourceId} and not exists (select 1 from home_paths p where p.store_id = v.id) order by v.id`);
  for (const { id, label } of rows) {
    const { rows: same } = await tx.execute<{ home_id: number; store: string; source: string; by: keyof typeof SAME_DRIVE }>(sql`
      select p.home_id, s.name as source, coalesce(v.label, 'volume ' || v.number) as store, w.by
      from stores n join stores v on v.id <> n.id
      cross join lateral (select case
        when v.identity->>'id' = n.identity->>'id' then 'identifier'
        when v.identity->>'drive' = n.identity->>'drive' then 'drive'
        when v.serial = n.serial and v.label is not distinct from n.label then 'serial' end as by) w
      join sources s on s.id = v.source_id join home_paths p on p.store_id = v.id and p.below = '' and p.at = ''
      where n.id = ${id} and s.job_id = ${jobId} and v.filesystem = n.filesystem and w.by is not null
      -- The same volume says more than another one of the drive.
      order by w.by = 'drive', v.id limit 1`);
    const [known] = same;
    const [own] = known ? [{ id: known.home_id }] : await tx.insert(homes).values({ jobId, label }).returning({ id: homes.id });
    if (!own) continue;
    const reason = known ? SAME_DRIVE[known.by](known) : null;
    await tx.insert(homePaths).values({ storeId: id, homeId: own.id, reason });
  }
}

/** How two stores are known to show the same drive, in words. */
const SAME_DRIVE = {
  identifier: ({ source }: Shown) => `It has the identifier of the volume in “${source}”.`,
  drive: ({ source, store }: Shown) =>
    `It and “${store}” in “${source}” say that they make up one drive: the system, and the data of its users.`,
  serial: ({ source }: Shown) => `It has the serial number and label of the volume in “${source}”.`,
};

interface Shown {
  readonly source: string;
  readonly store: string;
}
