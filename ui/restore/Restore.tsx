"use client";

import Button from "@mui/material/Button";
import LinearProgress from "@mui/material/LinearProgress";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import {
  CONFLICTS,
  type Conflict,
  type Rehearsal,
  type RestorePlan,
  type Restore as RestoreRecord,
  type Result,
  rehearsal,
} from "@/server/restores/contract";
import { write } from "../data/request";
import { keys, useJob, useRestores, useTray } from "../data/use-job-data";
import { Empty } from "../instruments/Empty";
import { Problem, problemText } from "../instruments/Problem";
import { bytesText, countText, durationText, exactBytes, momentText } from "../instruments/words";
import { useTrayChange } from "../items/use-tray-change";
import styles from "./restore.module.css";

const CONFLICT_WORDS: Record<(typeof CONFLICTS)[number], string> = {
  "keep-both": "keep both, numbered",
  skip: "leave it, skip mine",
  replace: "replace it",
};

/** The rehearsal of what would be written where, and what was written. */
export function Restore({ jobId }: { jobId: number }) {
  const { data: tray } = useTray(jobId);
  const { data: restores = [] } = useRestores(jobId);
  return (
    <div className={styles.page}>
      {tray?.count === 0 ? (
        restores.length === 0 && (
          <Empty title="The tray is empty.">
            Choose items in the list: they gather here, and nothing is written before you have seen what goes where.
          </Empty>
        )
      ) : (
        <RehearsalView jobId={jobId} trayBytes={tray?.bytes ?? 0} trayCount={tray?.count ?? 0} />
      )}
      {restores.map((restore) => (
        <RestoreView key={restore.id} jobId={jobId} restore={restore} />
      ))}
    </div>
  );
}

function RehearsalView({ jobId, trayBytes, trayCount }: { jobId: number; trayBytes: number; trayCount: number }) {
  const { data: job } = useJob(jobId);
  const client = useQueryClient();
  const [named, setNamed] = useState<string | null>(null);
  const [conflict, setConflict] = useState<RestorePlan["conflict"]>("keep-both");
  const destination = named ?? job?.title ?? "";
  const [choices, setChoices] = useState<RestorePlan["choices"]>({});
  const [streams, setStreams] = useState(false);
  const plan: RestorePlan = { destination, conflict, choices, streams };
  const { data, error } = useQuery({
    queryKey: [...keys.of(jobId, "rehearsal"), plan, trayBytes, trayCount],
    queryFn: async () => rehearsal.parse(await write("POST", `/api/jobs/${jobId}/rehearsal`, plan)),
    enabled: destination.trim() !== "",
    placeholderData: (before) => before,
  });
  const start = useMutation({
    mutationFn: () => write("POST", `/api/jobs/${jobId}/restores`, plan),
    onSettled: () => client.invalidateQueries({ queryKey: keys.job(jobId) }),
  });
  const writable = data?.files.filter((file) => !file.problem).length ?? 0;
  return (
    <section aria-label="Rehearsal">
      <h1>Rehearsal</h1>
      <p className={styles.lead}>Nothing is written yet. This is what would go where; each file is read again afterwards and compared.</p>
      <div className={styles.form}>
        <TextField
          size="small"
          label="Folder in the delivery folder"
          value={destination}
          onChange={(event) => setNamed(event.target.value)}
          sx={{ width: 340 }}
        />
        <TextField
          select
          size="small"
          label="If a file is already there"
          value={conflict}
          onChange={(event) => setConflict(event.target.value as RestorePlan["conflict"])}
          sx={{ width: 220 }}
        >
          {CONFLICTS.map((each) => (
            <MenuItem key={each} value={each}>
              {CONFLICT_WORDS[each]}
            </MenuItem>
          ))}
        </TextField>
        <Button
          variant="contained"
          disabled={!data || data.refused !== null || writable === 0 || start.isPending}
          onClick={() => start.mutate()}
        >
          {`Restore ${countText(writable)} ${writable === 1 ? "file" : "files"}`}
        </Button>
      </div>
      <Problem>{data?.refused ?? problemText(error) ?? problemText(start.error)}</Problem>
      {data && (
        <>
          <p className={styles.lead}>
            {bytesText(data.bytes)} to {data.root}
            {data.freeBytes !== null && `, where ${bytesText(data.freeBytes)} are free`}.
          </p>
          {data.streams > 0 && (
            <label className={styles.streams}>
              <input type="checkbox" checked={streams} onChange={(event) => setStreams(event.target.checked)} />
              {data.streams === 1
                ? "The named stream of these files too"
                : `The ${countText(data.streams)} named streams of these files too`}
              , as files of their own
            </label>
          )}
          <RehearsalTable
            jobId={jobId}
            data={data}
            conflict={conflict}
            choices={choices}
            onChoice={(itemId, choice) => setChoices((before) => ({ ...before, [itemId]: choice }))}
          />
        </>
      )}
    </section>
  );
}

interface TableProps {
  jobId: number;
  data: Rehearsal;
  conflict: Conflict;
  choices: RestorePlan["choices"];
  onChoice: (itemId: number, choice: Conflict) => void;
}

function RehearsalTable({ jobId, data, conflict, choices, onChoice }: TableProps) {
  const tray = useTrayChange(jobId);
  return (
    <>
      <Problem>{problemText(tray.error)}</Problem>
      <table className={styles.table}>
        <thead>
          <tr>
            <th>File</th>
            <th style={{ width: 100 }}>Condition</th>
            <th className={styles.number} style={{ width: 90 }}>
              Size
            </th>
            <th style={{ width: "32%" }}>What happens</th>
            <th style={{ width: 80 }}>
              <span className="visually-hidden">Tray</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {data.files.slice(0, 500).map((file) => (
            <tr key={`${file.itemId} ${file.stream ?? ""}`}>
              <td>
                {file.path.slice(1)}
                <small>{file.target.slice(data.root.length + 1)}</small>
              </td>
              <td>{file.condition.replace("-", " ")}</td>
              <td className={styles.number} title={exactBytes(file.size)}>
                {bytesText(file.size)}
              </td>
              <td>
                {file.problem ? `Not written: ${file.problem}` : file.exists ? "A file is already there: " : "is written anew"}
                {!file.problem && file.exists && (
                  <select
                    aria-label={`What to do with ${file.path}`}
                    className={styles.choice}
                    value={choices[file.itemId] ?? conflict}
                    onChange={(event) => onChoice(file.itemId, event.target.value as Conflict)}
                  >
                    {CONFLICTS.map((each) => (
                      <option key={each} value={each}>
                        {CONFLICT_WORDS[each]}
                      </option>
                    ))}
                  </select>
                )}
              </td>
              <td>
                {file.stream === null && (
                  <Button variant="text" onClick={() => tray.change({ items: [file.itemId], chosen: false })}>
                    Take out
                  </Button>
                )}
              </td>
            </tr>
          ))}
          {data.files.length > 500 && (
            <tr>
              <td colSpan={5}>and {countText(data.files.length - 500)} more</td>
            </tr>
          )}
        </tbody>
      </table>
    </>
  );
}

const STATE_WORDS: Record<Result["state"], string> = {
  waiting: "waiting",
  writing: "being written",
  verified: "verified",
  skipped: "skipped",
  failed: "not restored",
};

/** By the bytes written so far; null while too little is written to say. */
function timeLeft(restore: RestoreRecord): string | null {
  const bytes = (settled: boolean) =>
    restore.results
      .filter((result) => (result.state !== "waiting" && result.state !== "writing") === settled)
      .reduce((sum, result) => sum + result.size, 0);
  const spent = Date.now() - restore.createdAt.getTime();
  return spent > 2000 && bytes(true) > 0 ? durationText((bytes(false) / bytes(true)) * spent) : null;
}

function RestoreView({ jobId, restore }: { jobId: number; restore: RestoreRecord }) {
  const { data: job } = useJob(jobId);
  const client = useQueryClient();
  const retry = useMutation({
    mutationFn: () => write("POST", `/api/restores/${restore.id}/retry`),
    onSettled: () => client.invalidateQueries({ queryKey: keys.job(jobId) }),
  });
  const settled = restore.results.filter((result) => result.state !== "waiting" && result.state !== "writing").length;
  const verified = restore.results.filter((result) => result.state === "verified").length;
  const failed = restore.results.filter((result) => result.state === "failed");
  const running = restore.state === "queued" || restore.state === "running";
  const left = running ? timeLeft(restore) : null;
  return (
    <section className={styles.block} aria-label={`Restore ${restore.id}`}>
      <h1>Restored to “{restore.destination}”</h1>
      <p className={styles.lead} role="status">
        {running
          ? `Writing, ${settled} of ${restore.results.length} files${left ? `, about ${left} left` : ""}`
          : `${verified} of ${restore.results.length} files written, read again and the same`}
        {failed.length > 0 ? `, ${failed.length} not restored` : ""}.{" "}
        {momentText(restore.finishedAt ?? restore.createdAt, job?.timeZone ?? "UTC")} {job?.timeZone}, in {restore.root}
      </p>
      <Problem>{restore.problem ?? problemText(retry.error)}</Problem>
      {running && (
        <LinearProgress
          aria-label="Progress"
          variant="determinate"
          value={(100 * settled) / Math.max(1, restore.results.length)}
          sx={{ mb: 3 }}
        />
      )}
      <div className={styles.form}>
        {verified > 0 && (
          <Button component="a" href={`/api/restores/${restore.id}/zip`} variant="outlined">
            Download all as ZIP
          </Button>
        )}
        {!running && failed.some((result) => result.condition !== "name-only") && (
          <Button variant="outlined" onClick={() => retry.mutate()} disabled={retry.isPending}>
            Try the failed ones again
          </Button>
        )}
      </div>
      <ResultTable restore={restore} />
    </section>
  );
}

export function ResultTable({ restore, links = true }: { restore: RestoreRecord; links?: boolean }) {
  return (
    <table className={styles.table}>
      <thead>
        <tr>
          <th>File</th>
          <th style={{ width: 110 }}>Result</th>
          <th className={styles.number} style={{ width: 90 }}>
            Size
          </th>
          <th style={{ width: "40%" }}>SHA-256, read again</th>
        </tr>
      </thead>
      <tbody>
        {restore.results.map((result) => (
          <tr key={result.id}>
            <td>
              {links && result.state === "verified" ? (
                <a href={`/api/restores/${restore.id}/files/${result.id}`} style={{ color: "inherit" }}>
                  {result.path.slice(1)}
                </a>
              ) : (
                result.path.slice(1)
              )}
              {result.output && result.state === "verified" && <small>{result.output.slice(restore.root.length + 1)}</small>}
              {result.problem && <small>{result.problem}</small>}
            </td>
            <td>{STATE_WORDS[result.state]}</td>
            <td className={styles.number} title={exactBytes(result.size)}>
              {bytesText(result.size)}
            </td>
            <td className={styles.hash}>{result.state === "verified" ? result.sha256 : ""}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
