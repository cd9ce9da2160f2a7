"use client";

import Button from "@mui/material/Button";
import { paragraph } from "@/server/accounts/contract";
import type { Pass } from "@/server/passes/contract";
import type { Source } from "@/server/sources/contract";
import { useAccount, useJob, usePasses, useRestores, useSources } from "../data/use-job-data";
import { bytesText, countText, FILE_SYSTEM_WORDS, momentText, PLACE_WORDS } from "../instruments/words";
import { ResultTable } from "../restore/Restore";
import styles from "./handover.module.css";

/** The report: what was searched, found and restored, and what was not. Made to be printed. */
export function Handover({ jobId }: { jobId: number }) {
  const { data: job } = useJob(jobId);
  const { data: account } = useAccount(jobId);
  const { data: sources = [] } = useSources(jobId);
  const { data: passes = [] } = usePasses(jobId);
  const { data: restores = [] } = useRestores(jobId);
  if (!job || !account) return null;
  const zone = job.timeZone;
  return (
    <>
      <div className={`${styles.tools} screen-only`}>
        <Button variant="contained" onClick={() => window.print()}>
          Print
        </Button>
      </div>
      <article className={styles.page}>
        <h1>{job.title}</h1>
        <p className={styles.soft}>
          {job.client ? `For ${job.client}. ` : ""}As of {momentText(new Date(), zone)}; all times are {zone}.
        </p>
        <h2>What was lost</h2>
        <p>{paragraph(account, zone)}</p>
        <h2>What was searched</h2>
        <Searched sources={sources} passes={passes} />
        <h2>What was found</h2>
        <p>
          {countText(passes.reduce((sum, pass) => sum + pass.foundLost, 0))} lost files and{" "}
          {countText(passes.reduce((sum, pass) => sum + pass.foundLive, 0))} files still in place.
        </p>
        <h2>What was restored</h2>
        {restores.length === 0 && <p>Nothing has been restored yet.</p>}
        {restores.map((restore) => (
          <section key={restore.id}>
            <p>
              {momentText(restore.finishedAt ?? restore.createdAt, zone)}, to the folder “{restore.destination}”. Each file marked
              “verified” was read again from there and is the same, byte for byte, as what was found.
            </p>
            <ResultTable restore={restore} links={false} />
          </section>
        ))}
      </article>
    </>
  );
}

const PASS_STATES: Record<Pass["state"], string> = {
  queued: "waiting",
  running: "still being read",
  paused: "paused before its end",
  stopped: "stopped before its end",
  done: "read to the end",
  failed: "could not be read to the end",
};

function Searched({ sources, passes }: { sources: readonly Source[]; passes: readonly Pass[] }) {
  if (sources.length === 0) return <p>No drive or image has been looked at yet.</p>;
  return (
    <ul>
      {sources.map((source) => (
        <li key={source.id}>
          {source.name}, {bytesText(source.size)}. It was opened for reading only.
          <ul>
            {source.volumes.map((volume) => {
              const own = passes.filter((pass) => pass.volumeId === volume.id);
              const name = `${volume.label ?? `volume ${volume.number}`} (${FILE_SYSTEM_WORDS[volume.filesystem]}, ${bytesText(volume.length)})`;
              if (own.length === 0)
                return (
                  <li key={volume.id}>
                    {name}: not searched{volume.readable ? "" : ", its records cannot be read yet"}.
                  </li>
                );
              return (
                <li key={volume.id}>
                  {name}:{" "}
                  {own
                    .map(
                      (pass) =>
                        `${PLACE_WORDS[pass.place]?.toLowerCase()}s ${PASS_STATES[pass.state]}, ${countText(pass.foundLost)} lost files found`,
                    )
                    .join("; ")}
                  .
                </li>
              );
            })}
          </ul>
        </li>
      ))}
    </ul>
  );
}
