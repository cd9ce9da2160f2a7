import { runTask } from "../content/pool";
import { log } from "../log/logger";

/** Milliseconds between the end of one look and the begin of the next. */
const PAUSE_MS = 30_000;
const shared = globalThis as unknown as { compassRestoredLook?: { running: boolean; endedAt: number } };

/**
 * Looks at the restored files of all jobs beside what is answered now, so that counts of verified files follow what becomes of the files
 * in the delivery folder. Whoever follows a job hears of it when something changed.
 */
export function watchRestored(): void {
  shared.compassRestoredLook ??= { running: false, endedAt: 0 };
  const look = shared.compassRestoredLook;
  if (look.running || Date.now() - look.endedAt < PAUSE_MS) return;
  look.running = true;
  runTask("lookAtRestored", [])
    .catch((error) => log.warn({ err: error }, "Restored files could not be looked at again"))
    .finally(() => {
      look.running = false;
      look.endedAt = Date.now();
    });
}
