import { runTask } from "../server/content/pool";
import type { Database } from "../server/database/connection";
import { allWritten, keepProof } from "../server/restores/since";
import { enqueue } from "../server/workers/queue";

const SLICE_MS = 20_000;

/** Reads the files of a restore again and compares their hashes with those of what was written. @param from the result after which to go on */
export async function proveRestore(db: Database, restoreId: number, from: number, stopping: () => boolean): Promise<void> {
  const end = Date.now() + SLICE_MS;
  let after = from;
  for await (const { id, output, sha256 } of allWritten(db, restoreId, from)) {
    if (stopping() || Date.now() > end) return enqueue(db, "prove", restoreId, { from: after });
    const now = await runTask("readDelivered", [output]);
    const since = now === null ? "gone" : now.sha256 === sha256 ? null : "changed";
    await keepProof(db, restoreId, { resultId: id, since, fromDevice: now?.fromDevice ?? null });
    after = id;
  }
  await keepProof(db, restoreId, null);
}
