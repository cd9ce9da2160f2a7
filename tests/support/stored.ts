import type { Copy } from "../../core/copies/copy";
import { copyRows } from "../../server/passes/copy-rows";
import { storeCopies } from "../../server/passes/store-copies";
import type { TestBench } from "./bench";

/** Stores copies as a batch of a pass over a place would. */
export async function storeBatch(
  { pool }: TestBench,
  jobId: number,
  storeId: number,
  place: "file-record" | "earlier-states",
  copies: readonly Copy[],
): Promise<void> {
  const client = await pool.connect();
  try {
    await client.query("begin");
    await storeCopies(client, { id: storeId, jobId, place, epoch: 1, volume: { id: storeId } }, copyRows(copies, storeId));
    await client.query("commit");
  } finally {
    client.release();
  }
}
