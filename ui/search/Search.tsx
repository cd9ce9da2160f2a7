"use client";

import Button from "@mui/material/Button";
import LinearProgress from "@mui/material/LinearProgress";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import Link from "next/link";
import { z } from "zod";
import { findsAlone, type Pass, passKind, passWords } from "@/server/passes/contract";
import { read, write } from "../data/request";
import { keys, usePasses, useSources } from "../data/use-job-data";
import { Empty } from "../instruments/Empty";
import { Problem, problemText } from "../instruments/Problem";
import { bytesText, countText, durationText, kindCountText, narrowedWords, offsetText, PLACE_WORDS } from "../instruments/words";
import { NotReadYet, openPasses } from "./NotReadYet";
import { RawSweep, sweepable } from "./RawSweep";
import styles from "./search.module.css";

/** The passes of the job: what is being read, what was, and what could be. */
export function Search({ jobId }: { jobId: number }) {
  const { data: sources = [] } = useSources(jobId);
  const { data: passes, error } = usePasses(jobId);
  const { data: health } = useQuery({
    queryKey: ["health"],
    queryFn: () => read("/api/health", z.object({ workers: z.number() })),
    refetchInterval: 10_000,
  });
  if (!passes) return <Problem>{problemText(error)}</Problem>;
  const open = openPasses(sources, passes);
  const closed = sources.flatMap((source) => source.volumes.filter((volume) => volume.closed).map((volume) => ({ source, volume })));
  return (
    <div className={styles.page}>
      {health?.workers === 0 && (
        <Problem>No worker is running, so passes wait. Start the application again with “npm start”; what was found is kept.</Problem>
      )}
      <h2>Passes</h2>
      <p className={styles.lead}>
        A pass reads one volume for one kind of place. What it finds shows at once, and stays when it is paused or stopped.
      </p>
      {passes.length === 0 ? (
        <Empty title="Nothing has been read yet.">Start with the file records: they are quick, and keep names, folders and dates.</Empty>
      ) : (
        <PassRows jobId={jobId} passes={passes} />
      )}
      {closed.map(({ source, volume }) => (
        <div key={volume.id} className={styles.closed}>
          <Problem>{`${volume.label ?? `Volume ${volume.number}`} of ${source.name}: ${volume.closed}`}</Problem>
        </div>
      ))}
      {open.length > 0 && <NotReadYet jobId={jobId} open={open} />}
      <RawSweep jobId={jobId} places={sweepable(sources)} passes={passes} />
    </div>
  );
}

/** More finished passes than this stand behind a line that sums them up. */
const MOST_FINISHED = 8;

function PassRows({ jobId, passes }: { jobId: number; passes: readonly Pass[] }) {
  const finished = passes.filter((pass) => pass.state === "done");
  const folded = finished.length > MOST_FINISHED;
  const shown = folded ? passes.filter((pass) => pass.state !== "done") : passes;
  const sum = (of: "foundLost" | "foundLive") => countText(finished.reduce((total, pass) => total + pass[of], 0));
  const rows = (all: readonly Pass[]) => all.map((pass) => <PassRow key={pass.id} jobId={jobId} pass={pass} />);
  return (
    <>
      {shown.length > 0 && (
        <ul className={styles.rows} aria-label="Passes">
          {rows(shown)}
        </ul>
      )}
      {folded && (
        <details className={styles.alone}>
          <summary>
            {finished.length} finished passes: {sum("foundLost")} lost or in known places, {sum("foundLive")} live
          </summary>
          <ul className={styles.rows} aria-label="Finished passes">
            {rows(finished)}
          </ul>
        </details>
      )}
    </>
  );
}

const capital = (words: string) => `${words.charAt(0).toUpperCase()}${words.slice(1)}`;

/** What this pass found lost, by kind; each leads to the list of just that. */
function Kinds({ jobId, pass }: { jobId: number; pass: Pass }) {
  if (pass.kinds.length === 0) return null;
  const known = findsAlone(pass.place, pass.form);
  return (
    <span style={{ display: "block" }}>
      {pass.kinds.map((each, index) => (
        <span key={`${each.place} ${each.kind}`}>
          {index > 0 && ", "}
          <Link href={`/jobs/${jobId}/items?kind=${each.kind}&place=${each.place}`} style={{ color: "inherit", whiteSpace: "nowrap" }}>
            {kindCountText(each.kind, each.count)}
          </Link>
          {known && ` (${PLACE_WORDS[each.place]?.toLowerCase()})`}
        </span>
      ))}
    </span>
  );
}

function stateText(pass: Pass): string {
  const share = pass.total > 0 ? `${Math.floor((100 * pass.done) / pass.total)} %` : "";
  if (pass.state === "queued" && pass.wanted === "stop") return "stopping …";
  if (pass.state === "queued") return pass.done > 0 ? `waiting to go on at ${share}` : "waiting for a worker";
  if (pass.state === "running")
    return pass.wanted === "run"
      ? `reading, ${share || passKind(pass.place).words.beginning}`
      : pass.wanted === "pause"
        ? "pausing …"
        : "stopping …";
  if (pass.state === "paused") return `paused at ${share || "the start"}`;
  if (pass.state === "stopped") return `stopped at ${share || "the start"}; what was found is kept`;
  if (pass.state === "failed") return "failed";
  return `finished in ${durationText(pass.activeMs)}`;
}

function speedText(pass: Pass): string {
  if (pass.activeMs < 200 || pass.done === 0) return "";
  const perSecond = pass.done / (pass.activeMs / 1000);
  // How long pieces are looked for does not go by the bytes that are left.
  const goesOn = pass.state === "running" && !pass.sighted?.joining;
  const left = goesOn ? `, about ${durationText(((pass.total - pass.done) / perSecond) * 1000)} left` : "";
  const speed = passKind(pass.place).unit === "bytes" ? bytesText(perSecond) : `${countText(perSecond)} records`;
  return `${speed} a second${left}`;
}

/** What a sweep has come upon and still has in hand, because what follows may belong to it. */
function InHand({ pass: { sighted } }: { pass: Pass }) {
  if (!sighted || sighted.count === 0) return null;
  return (
    <span className={styles.inHand} title="Given out as soon as nothing that follows on the disk can belong to them.">
      {countText(sighted.count)} in hand
      {sighted.joining && `, pieces looked for: ${countText(sighted.joining.done)} of ${countText(sighted.joining.all)}`}
      {sighted.newest.map(({ name, size, at }) => (
        <i key={at} title={`${name}, at ${offsetText(at)}`}>
          {name}, {bytesText(size)}
        </i>
      ))}
    </span>
  );
}

/** What of a folder was not read: its pass is no whole one then, and says so. */
function NotRead({ jobId, pass }: { jobId: number; pass: Pass }) {
  const { data: sources = [] } = useSources(jobId);
  const source = sources.find(({ volumes }) => volumes.some(({ id }) => id === pass.storeId));
  const volume = source?.volumes.find(({ id }) => id === pass.storeId);
  if (!source || volume?.filesystem !== "folder" || volume.findings.length === 0) return null;
  const count = volume.findings.reduce((sum, finding) => sum + finding.count, 0);
  const examples = volume.findings.map((finding) => `${finding.what} ${finding.examples.join("; ")}`).join("\n");
  return (
    <Link href={`/jobs/${jobId}/sources?source=${source.id}`} style={{ color: "inherit", display: "block" }} title={examples}>
      {countText(count)} in it not read
    </Link>
  );
}

function PassRow({ jobId, pass }: { jobId: number; pass: Pass }) {
  const client = useQueryClient();
  const change = useMutation({
    mutationFn: (wanted: "run" | "pause" | "stop") => write("PATCH", `/api/passes/${pass.id}`, { wanted }),
    onSettled: () => client.invalidateQueries({ queryKey: keys.job(jobId) }),
  });
  const live = pass.state === "running" || pass.state === "queued";
  const offered = {
    pause: live && pass.wanted === "run",
    run: pass.state === "paused" || pass.state === "failed",
    stop: live || pass.state === "paused",
  };
  const button = (wanted: "run" | "pause" | "stop", words: string) =>
    offered[wanted] && (
      <Button key={wanted} variant="outlined" disabled={change.isPending} onClick={() => change.mutate(wanted)}>
        {words}
      </Button>
    );
  return (
    <li className={styles.row} data-live={live}>
      <div>
        <b>
          {capital(passWords(pass.place, pass.form).noun)} of {pass.volumeLabel}
        </b>
        <span>{[pass.sourceName, narrowedWords(pass.options)].filter(Boolean).join(", ")}</span>
      </div>
      <div>
        <span role={live ? "status" : undefined}>{stateText(pass)}</span>
        {live && (
          <LinearProgress
            aria-label="Progress"
            variant={pass.total > 0 ? "determinate" : "indeterminate"}
            value={pass.total > 0 ? (100 * pass.done) / pass.total : 0}
            sx={{ mt: 1.5 }}
          />
        )}
        {!live && <span style={{ display: "block" }}>{speedText(pass)}</span>}
        {!live && <NotRead jobId={jobId} pass={pass} />}
        {live && <span>{speedText(pass)}</span>}
        <Problem>{pass.problem ?? problemText(change.error)}</Problem>
      </div>
      <div>
        <Link href={`/jobs/${jobId}/items`} style={{ color: "inherit" }}>
          <strong>
            {countText(pass.foundLost)} {findsAlone(pass.place, pass.form) ? "found" : "lost"}
          </strong>
        </Link>
        {!findsAlone(pass.place, pass.form) && <span>, {countText(pass.foundLive)} live</span>}
        <Kinds jobId={jobId} pass={pass} />
        {(live || pass.state === "paused") && <InHand pass={pass} />}
      </div>
      <div className={styles.buttons}>
        {button("pause", "Pause")}
        {button("run", "Continue")}
        {button("stop", "Stop")}
      </div>
    </li>
  );
}
