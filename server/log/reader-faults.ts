import { reportFaultsTo } from "../../core/formats/reader-faults";
import { log } from "./logger";

/** The same fault of a reader is written down once in a process: a drive may hold the same kind of file a million times. */
const written = new Set<string>();
const MOST = 1000;

/** Has faults of the bench's own readers written to the log, with where they happened. */
export function logReaderFaults(): void {
  reportFaultsTo((reader, error) => {
    const key = `${reader} ${error.stack}`;
    if (written.has(key) || written.size >= MOST) return;
    written.add(key);
    log.error({ reader, error: error.stack ?? error.message }, "a reader of the bench failed");
  });
}
