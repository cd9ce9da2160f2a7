import { asc, eq } from "drizzle-orm";
import type { Connection } from "../database/connection";
import { passes, sources, stores } from "../database/schema";
import { formOf, type Pass } from "./contract";

export async function listPasses(db: Connection, jobId: number): Promise<Pass[]> {
  const rows = await db
    .select({
      pass: passes,
      sourceName: sources.name,
      container: sources.container,
      number: stores.number,
      label: stores.label,
      filesystem: stores.filesystem,
    })
    .from(passes)
    .innerJoin(sources, eq(sources.id, passes.sourceId))
    .innerJoin(stores, eq(stores.id, passes.storeId))
    .where(eq(passes.jobId, jobId))
    .orderBy(asc(passes.id));
  return rows.map(({ pass, sourceName, container, number, label, filesystem }) => ({
    ...pass,
    place: pass.place as Pass["place"],
    form: formOf(container, filesystem),
    sourceName,
    volumeLabel: label ?? `volume ${number}`,
  }));
}
