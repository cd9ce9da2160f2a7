import { type Joined, joinRecords, TooManyRows } from "../../core/records/join";
import type { RecordReader } from "../../core/records/records";
import { asDatabase } from "../../io/join-records";
import type { Connection } from "../database/connection";
import { findStoredCopy, type StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import { openDatabase } from "./open";

/** Rows of all databases that are joined here: what more of them need no process of the bench has room for. */
export const MOST_JOINED = 250_000;

/** Joins copies of a job that are databases of one kind. @throws Problem when one is none, or of another job */
export async function joinCopies(
  db: Connection,
  jobId: number,
  copyIds: readonly number[],
): Promise<{ joined: Joined; copies: StoredCopy[] }> {
  const copies: StoredCopy[] = [];
  const opened: { name: string; reader: RecordReader; close(): void }[] = [];
  try {
    for (const id of copyIds) {
      const stored = await findStoredCopy(db, id);
      if (stored?.jobId !== jobId) throw new Problem("There is no such copy in this job.", 404);
      const candidate = await openDatabase(db, stored);
      if (!candidate) throw new Problem(`${stored.name} is no database the bench reads.`, 422);
      opened.push({ name: stored.name, ...candidate });
      copies.push(stored);
    }
    const joined = joinRecords(opened, MOST_JOINED);
    if (joined.tables.length === 0) throw new Problem("None of these databases still says which tables it has.", 422);
    return { joined, copies };
  } catch (error) {
    if (!(error instanceof TooManyRows)) throw error;
    throw new Problem(
      `These databases have more than ${MOST_JOINED} rows together: too many to be joined here. Restore them, and join them by \`compass join\`.`,
      413,
    );
  } finally {
    for (const each of opened) each.close();
  }
}

/** The chosen copies of a job joined into one database, as its bytes. */
export async function joinedDatabase(db: Connection, jobId: number, copyIds: readonly number[]): Promise<Uint8Array> {
  return asDatabase((await joinCopies(db, jobId, copyIds)).joined);
}
