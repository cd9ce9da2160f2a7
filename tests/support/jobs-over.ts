import { createJob } from "../../server/jobs/commands";
import { startPass } from "../../server/passes/commands";
import { listPasses } from "../../server/passes/queries";
import { addSource } from "../../server/sources/commands";
import { listSources } from "../../server/sources/queries";
import { type TestBench, until } from "./bench";

type Bench = Pick<TestBench, "db">;

/** Waits until all passes of a job are done. @throws when one failed */
export const passesDone = ({ db }: Bench, job: number): Promise<unknown> =>
  until(async () => {
    const passes = await listPasses(db, job);
    const failed = passes.find(({ state }) => state === "failed");
    if (failed) throw new Error(failed.problem ?? "failed");
    return passes.every(({ state }) => state === "done");
  });

/** Makes a job over a source, and runs these passes over each of its volumes. @returns the job's id */
export async function jobOver(bench: Bench, path: string, places: readonly ("file-record" | "earlier-states")[]): Promise<number> {
  const job = await createJob(bench.db, { title: path, client: "" });
  await addSource(bench.db, job, path);
  for (const { volumes } of await listSources(bench.db, job))
    for (const volume of volumes) if (volume.readable) for (const place of places) await startPass(bench.db, job, volume.id, place);
  await passesDone(bench, job);
  return job;
}
