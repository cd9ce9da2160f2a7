import { sql } from "drizzle-orm";
import { database } from "@/server/database/connection";
import { answer } from "@/server/respond";
import { countWorkers } from "@/server/workers/presence";

export const dynamic = "force-dynamic";

export const GET = answer(async () => {
  const { db } = database();
  await db.execute(sql`select 1`);
  return { ok: true, workers: await countWorkers(db) };
});
