import { Malformed } from "../bytes/malformed";
import { PastEnd } from "../bytes/past-end";

/** Where a reader was when it failed, and how. */
type Report = (reader: string, error: Error) => void;

let report: Report = () => undefined;

/** Sets who is notified of faults of the bench's own readers: a log, or a test. */
export function reportFaultsTo(to: Report): void {
  report = to;
}

/** Whether an error says that the bytes are damaged. */
export const isDamage = (error: unknown): boolean => error instanceof PastEnd || error instanceof Malformed;

/**
 * Runs a reader over a client's file. Damage is the reader's to say; whatever else goes wrong is a fault of ours, and never the file's: it is
 * reported, and nothing is claimed of the file.
 * @param damaged what is known where the bytes are damaged @param failed what is known after a fault of ours
 */
export function runReader<T>(reader: string, read: () => T, damaged: (error: Error) => T, failed: T): T {
  try {
    return read();
  } catch (error) {
    if (isDamage(error)) return damaged(error as Error);
    report(reader, error as Error);
    return failed;
  }
}
