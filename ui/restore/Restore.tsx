"use client";

import { useRestores, useTray } from "../data/use-job-data";
import { Empty } from "../instruments/Empty";
import { Rehearsal } from "./Rehearsal";
import { RestoreResults } from "./RestoreResults";
import styles from "./restore.module.css";

/** The rehearsal of what would be written where, and what was written. What is being written comes first, then what is still in the tray. */
export function Restore({ jobId }: { jobId: number }) {
  const { data: tray } = useTray(jobId);
  const { data: restores = [] } = useRestores(jobId);
  const running = restores.filter(({ state }) => state === "queued" || state === "running" || state === "paused");
  const ended = restores.filter((restore) => !running.includes(restore));
  // The newest restore is what somebody who comes back wants to see, until something else is chosen.
  const [newest, ...older] = ended;
  const first = running.length === 0 && (tray?.count ?? 0) === 0 && newest ? [newest] : [];
  const rest = first.length > 0 ? older : ended;
  return (
    <div className={styles.page}>
      {[...running, ...first].map((restore) => (
        <RestoreResults key={restore.id} jobId={jobId} restore={restore} open />
      ))}
      {tray && tray.count > 0 && <Rehearsal jobId={jobId} tray={tray} />}
      {tray?.count === 0 && restores.length === 0 && (
        <Empty title="The tray is empty.">
          Choose items in the list: they gather here, and nothing is written before you have seen what goes where.
        </Empty>
      )}
      {rest.map((restore) => (
        <RestoreResults key={restore.id} jobId={jobId} restore={restore} open={restores.length <= 2} />
      ))}
    </div>
  );
}
