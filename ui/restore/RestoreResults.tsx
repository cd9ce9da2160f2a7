"use client";

import Button from "@mui/material/Button";
import LinearProgress from "@mui/material/LinearProgress";
import { useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type Restore, resultPage } from "@/server/restores/contract";
import { read, write } from "../data/request";
import { keys, useJob } from "../data/use-job-data";
import { PartChoice } from "../instruments/PartChoice";
import { Problem, problemText } from "../instruments/Problem";
import {
  bytesText,
  countText,
  exactBytes,
  filesText,
  fromMemoryText,
  leftBehindText,
  momentText,
  placeText,
  resultText,
} from "../instruments/words";
import { RestoreControl } from "./RestoreControl";
import styles from "./restore.module.css";
import { speedText, useSpeed } from "./use-speed";

type Only = "all" | "gaps" | "open" | "changed" | "left";

/** One restore: how far it is, then what became of each file. */
export function RestoreResults({ jobId, restore, open }: { jobId: number; restore: Restore; open: boolean }) {
  const { data: job } = useJob(jobId);
  const client = useQueryClient();
  const [only, setOnly] = useState<Only>("all");
  const [unfolded, setUnfolded] = useState(open);
  const change = useMutation({
    mutationFn: (what: "retry" | "prove") => write("POST", `/api/restores/${restore.id}/${what}`),
    onSettled: () => client.invalidateQueries({ queryKey: keys.job(jobId) }),
  });
  const { counts } = restore;
  const running = restore.state === "queued" || restore.state === "running" || restore.state === "paused";
  const speed = useSpeed(restore);
  const written = counts.verified + counts.gaps + counts.same;
  const zone = job?.timeZone ?? "UTC";
  const said = [
    restore.state === "paused"
      ? `${restore.waits ? "Waiting for the destination" : "Paused"}, ${countText(counts.settled)} of ${filesText(counts.files)} settled`
      : restore.state === "queued"
        ? `Waiting to begin with ${countText(counts.files - counts.settled)} of ${filesText(counts.files)}: others into this folder, or other work, come first`
        : running
          ? `Writing, ${countText(counts.settled)} of ${filesText(counts.files)}, ${bytesText(counts.settledBytes)} of ${bytesText(counts.bytes)}${speedText(speed, counts)}${restore.wanted === "run" ? "" : `; asked to ${restore.wanted}, after the file in hand`}`
          : `${countText(counts.verified)} of ${filesText(counts.files)} written, read again and the same`,
    counts.gaps > 0 ? `${countText(counts.gaps)} written with gaps (${exactBytes(counts.missing)} missing in all)` : null,
    counts.same > 0
      ? `${countText(counts.same)} there already with the same bytes${counts.sameGaps > 0 ? `, ${countText(counts.sameGaps)} of them with gaps` : ""}`
      : null,
    counts.skipped > 0 ? `${countText(counts.skipped)} skipped` : null,
    counts.failed > 0 ? `${countText(counts.failed)} not restored` : null,
  ].filter(Boolean);
  const filters: readonly (readonly [Only, string, number])[] = [
    ["all", "All", counts.files],
    ["gaps", "With gaps", counts.gaps + counts.sameGaps],
    ["open", "Not written", counts.files - written],
    ["left", "Something left behind", counts.leftBehind],
    ["changed", "Not as they were left", counts.since],
  ];
  return (
    <section className={styles.block} aria-label={`Restore ${restore.id}`}>
      <h2>
        {restore.state === "paused"
          ? `Restore to ${placeText(restore)}, not finished`
          : running
            ? `Restoring to ${placeText(restore)}`
            : `Restored to ${placeText(restore)}`}
      </h2>
      <p className={styles.lead} role="status">
        {said.join(", ")}. {momentText(restore.finishedAt ?? restore.createdAt, zone)} {zone}, in {restore.root}
      </p>
      {running && (
        <LinearProgress
          aria-label="Progress"
          variant="determinate"
          value={(100 * counts.settledBytes + counts.settled) / Math.max(1, counts.bytes + counts.files / 100)}
          sx={{ mb: 3 }}
        />
      )}
      <Problem>{restore.problem ?? problemText(change.error)}</Problem>
      {running && <RestoreControl jobId={jobId} restore={restore} />}
      {counts.since > 0 && (
        <Problem>
          {`${countText(counts.since)} of these files ${counts.since === 1 ? "does" : "do"} not stand as ${counts.since === 1 ? "it was" : "they were"} left: replaced, changed or removed since. They are not in the download.`}
        </Problem>
      )}
      {counts.fromMemory > 0 && <p className={styles.lead}>{fromMemoryText(counts)}</p>}
      <div className={styles.form}>
        {written > counts.since && !running && (
          <Button component="a" href={`/api/restores/${restore.id}/zip`} variant="outlined">
            Download all as ZIP
          </Button>
        )}
        {written > counts.since && !running && (
          <Button component="a" href={`/api/restores/${restore.id}/tar`} variant="outlined">
            As TAR
          </Button>
        )}
        <Button variant="text" onClick={() => navigator.clipboard.writeText(restore.root)} title={restore.root}>
          Copy the folder’s path
        </Button>
        {!running && written > 0 && (
          <Button
            variant="outlined"
            onClick={() => change.mutate("prove")}
            disabled={change.isPending}
            title="Reads every file again and compares its hash with what was written"
          >
            Read all again
          </Button>
        )}
        {!running && counts.failed > 0 && (
          <Button variant="outlined" onClick={() => change.mutate("retry")} disabled={change.isPending}>
            Try the failed ones again
          </Button>
        )}
        {restore.provenAt && <span className={styles.pages}>All read again {momentText(restore.provenAt, zone)}.</span>}
        {unfolded && <PartChoice label="Which results" value={only} parts={filters} onChange={setOnly} />}
        {!open && (
          <Button variant="text" aria-expanded={unfolded} onClick={() => setUnfolded(!unfolded)}>
            {unfolded ? "Fold away" : "Show the files"}
          </Button>
        )}
      </div>
      {unfolded && <ResultTable jobId={jobId} restore={restore} only={only} />}
    </section>
  );
}

function ResultTable({ jobId, restore, only }: { jobId: number; restore: Restore; only: Only }) {
  const { data, error, hasNextPage, fetchNextPage, isFetchingNextPage } = useInfiniteQuery({
    queryKey: [...keys.of(jobId, "results"), restore.id, only],
    queryFn: ({ pageParam, signal }) => read(`/api/restores/${restore.id}/files?only=${only}&after=${pageParam}`, resultPage, signal),
    initialPageParam: 0,
    getNextPageParam: (page) => page.next ?? undefined,
  });
  const results = data?.pages.flatMap((page) => page.results) ?? [];
  return (
    <>
      <Problem>{problemText(error)}</Problem>
      <table className={styles.table}>
        <thead>
          <tr>
            <th>File</th>
            <th style={{ width: 130 }}>Result</th>
            <th className={styles.number} style={{ width: 90 }}>
              Size
            </th>
            <th style={{ width: "36%" }}>SHA-256, read again</th>
          </tr>
        </thead>
        <tbody>
          {results.map((result) => {
            const written = result.state === "verified" || result.state === "gaps" || result.state === "same";
            return (
              <tr key={result.id}>
                <td>
                  {written && !result.since ? (
                    <a href={`/api/restores/${restore.id}/files/${result.id}`} style={{ color: "inherit" }}>
                      {result.path.slice(1)}
                    </a>
                  ) : (
                    result.path.slice(1)
                  )}
                  {result.output && written && <small>{result.output.slice(restore.root.length + 1)}</small>}
                  {result.aside && <small>What was there before is kept as {result.aside.slice(restore.root.length + 1)}</small>}
                  {result.problem && <small>{result.problem}</small>}
                  {written && leftBehindText(result) && <small>{leftBehindText(result)}</small>}
                </td>
                <td>{resultText(result)}</td>
                <td className={styles.number} title={exactBytes(result.size)}>
                  {bytesText(result.size)}
                </td>
                <td className={styles.hash}>{written ? result.sha256 : ""}</td>
              </tr>
            );
          })}
        </tbody>
      </table>
      {hasNextPage && (
        <Button variant="outlined" disabled={isFetchingNextPage} onClick={() => fetchNextPage()}>
          More of the {countText(restore.counts.files)} files
        </Button>
      )}
    </>
  );
}
