"use client";

import Button from "@mui/material/Button";
import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import { useQuery } from "@tanstack/react-query";
import { paragraph } from "@/server/accounts/contract";
import { logEntries } from "@/server/log/contract";
import type { Pass } from "@/server/passes/contract";
import type { Plan } from "@/server/plan/contract";
import type { Restore } from "@/server/restores/contract";
import type { Source } from "@/server/sources/contract";
import { read } from "../data/request";
import { useAddress } from "../data/use-address";
import { keys, useAccounts, useJob, usePasses, usePlan, useRestores, useSources } from "../data/use-job-data";
import { bytesText, countText, FILE_SYSTEM_WORDS, momentText, PASS_WORDS } from "../instruments/words";
import { ResultTable } from "../restore/Restore";
import { narrowedWords } from "../search/NotReadYet";
import styles from "./handover.module.css";

/** The report: what was searched, found and restored, and what was not. Made to be printed. */
export function Handover({ jobId }: { jobId: number }) {
  const [address, change] = useAddress();
  const complete = address.get("for") === "file";
  const { data: job } = useJob(jobId);
  const { data: accounts } = useAccounts(jobId);
  const { data: plan } = usePlan(jobId);
  const { data: sources = [] } = useSources(jobId);
  const { data: passes = [] } = usePasses(jobId);
  const { data: restores = [] } = useRestores(jobId);
  if (!job || !accounts) return null;
  const zone = job.timeZone;
  return (
    <>
      <div className={`${styles.tools} screen-only`}>
        <ToggleButtonGroup
          exclusive
          size="small"
          aria-label="Which report"
          value={complete ? "file" : "client"}
          onChange={(_, next: string | null) => next && change({ for: next === "file" ? "file" : null }, true)}
        >
          <ToggleButton value="client" sx={{ py: 0.75, px: 2.5 }}>
            For the client
          </ToggleButton>
          <ToggleButton value="file" sx={{ py: 0.75, px: 2.5 }}>
            For the file
          </ToggleButton>
        </ToggleButtonGroup>
        <span style={{ flex: 1 }} />
        {(["html", "csv", "json"] as const).map((form) => (
          <Button key={form} component="a" href={`/api/jobs/${jobId}/report?form=${form}`} variant="outlined">
            {form.toUpperCase()}
          </Button>
        ))}
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
        {accounts.map((account) => (
          <p key={paragraph(account, zone)}>{paragraph(account, zone)}</p>
        ))}
        {plan && <Looked plan={plan} />}
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
            {complete ? <ResultTable restore={restore} links={false} /> : <PlainResults restore={restore} />}
          </section>
        ))}
        {complete ? <Log jobId={jobId} zone={zone} /> : <Advice restored={restores.some((restore) => restore.state === "done")} />}
      </article>
    </>
  );
}

/** How it was looked for: the plan's steps with what came of them. */
function Looked({ plan }: { plan: Plan }) {
  const words = ({ state, note, found }: Plan["steps"][number]) => {
    if (state === "done")
      return found.length > 0 ? `done, ${countText(found.reduce((sum, each) => sum + each.count, 0))} found` : (note ?? "done");
    const said = state === "to do" ? "not done" : state;
    return note ? `${said}: ${note}` : said;
  };
  return (
    <>
      <h2>How it was looked for</h2>
      {plan.found && (
        <p>
          What was looked for is found: {plan.found.folder.slice(1)}/{plan.found.name}.
        </p>
      )}
      <ol>
        {plan.steps.map((step) => (
          <li key={step.key}>
            {step.title}, {step.where}: {words(step)}
          </li>
        ))}
      </ol>
    </>
  );
}

/** What a client wants to know of each file: is it there, and is it whole? */
function PlainResults({ restore }: { restore: Restore }) {
  return (
    <ul>
      {restore.results.map((result) => (
        <li key={result.id}>
          {result.path.slice(1)}: {plainResult(result)}
        </li>
      ))}
    </ul>
  );
}

function plainResult({ state, condition, problem }: Restore["results"][number]): string {
  if (state !== "verified") return problem ?? "not restored";
  if (condition === "whole") return "restored, complete";
  if (condition === "partial") return "restored, but parts of it are missing";
  return "restored; whether it is complete could not be checked";
}

/** Common practice, no published source. */
function Advice({ restored }: { restored: boolean }) {
  return (
    <>
      <h2>What to do now</h2>
      <ul>
        {restored && <li>Open each restored file once, from where it was restored to, before anything else is done with the drive.</li>}
        <li>
          Do not use the drive that lost the files until everything that matters is in hand: each write can destroy what was not found yet.
        </li>
        <li>Keep a second copy of what matters on another device, and let the computer make it by itself.</li>
        <li>Let programs save unsaved work every few minutes; ten is usual, fewer is better.</li>
      </ul>
    </>
  );
}

function Log({ jobId, zone }: { jobId: number; zone: string }) {
  const { data = [] } = useQuery({ queryKey: keys.of(jobId, "log"), queryFn: () => read(`/api/jobs/${jobId}/log`, logEntries) });
  return (
    <>
      <h2>What was done</h2>
      <ol className={styles.log}>
        {data.map((entry) => (
          <li key={entry.id}>
            <span>{momentText(entry.at, zone)}</span> {entry.what}{" "}
            {Object.keys(entry.detail).length > 0 && (
              <code>
                {Object.entries(entry.detail)
                  .flatMap(([name, value]) => (value === null ? [] : [`${name} ${String(value)}`]))
                  .join(", ")}
              </code>
            )}
          </li>
        ))}
      </ol>
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
          {source.name}
          {source.size > 0 ? `, ${bytesText(source.size)}` : ""}. It was opened for reading only.
          <ul>
            {source.volumes.map((volume) => {
              const own = passes.filter((pass) => pass.volumeId === volume.id);
              const size = volume.length > 0 ? `, ${bytesText(volume.length)}` : "";
              const name = `${volume.label ?? `volume ${volume.number}`} (${FILE_SYSTEM_WORDS[volume.filesystem]}${size})`;
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
                        `${[PASS_WORDS[pass.place], narrowedWords(pass.options)].filter(Boolean).join(", ")}, ${PASS_STATES[pass.state]}, ${countText(pass.foundLost)} files found`,
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
