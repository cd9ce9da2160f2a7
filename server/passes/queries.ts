import { asc, eq } from "drizzle-orm";
import type { Connection } from "../database/connection";
import { passes, sources, stores } from "../database/schema";
import type { Pass } from "./contract";

export async function listPasses(db: Connection, jobId: number): Promise<Pass[]> {
  const rows = await db
    .select({ pass: passes, sourceName: sources.name, number: stores.number, label: stores.label })
    .from(passes)
    .innerJoin(sources, eq(sources.id, passes.sourceId))
    .innerJoin(stores, eq(stores.id, passes.storeId))
    .where(eq(passes.jobId, jobId))
    .orderBy(asc(passes.id));
  return rows.map(({ pass, sourceName, number, label }) => ({
    ...pass,
    place: pass.place as Pass["place"],
    sourceName,
    volumeLabel: label ?? `volume ${number}`,
  }));
}
