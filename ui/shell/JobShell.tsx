"use client";

import Link from "next/link";
import { usePathname } from "next/navigation";
import { type ReactNode, useEffect, useState } from "react";
import { useJob, useJobEvents, usePasses, useRestores, useSources, useTray } from "../data/use-job-data";
import { Problem, problemText } from "../instruments/Problem";
import { bytesText, countText } from "../instruments/words";
import { ChartStrip } from "../sources/ChartStrip";
import { ColourScheme } from "./ColourScheme";
import { Compass } from "./Compass";
import { Elsewhere } from "./Elsewhere";
import styles from "./shell.module.css";
import { STAGE_WORDS, STAGES, type Stage } from "./stages";

type Progress = "untouched" | "begun" | "done";

const SAID: Record<Progress, string> = { untouched: "not begun", begun: "begun", done: "done" };

/** How far a stage is: an empty, half or full diamond. */
function StageMark({ progress }: { progress: Progress }) {
  return (
    <svg width="10" height="10" viewBox="0 0 10 10" role="img" aria-label={SAID[progress]}>
      <path
        d="M5 .7 9.3 5 5 9.3 .7 5z"
        fill={progress === "done" ? "var(--mui-palette-chart-depth4)" : "none"}
        stroke="var(--mui-palette-chart-depth4)"
      />
      {progress === "begun" && <path d="M.7 5h8.6L5 .7z" fill="var(--mui-palette-chart-depth4)" />}
    </svg>
  );
}

function useProgress(jobId: number): Record<Stage, Progress> {
  const { data: job } = useJob(jobId);
  const { data: sources = [] } = useSources(jobId);
  const { data: passes = [] } = usePasses(jobId);
  const { data: tray } = useTray(jobId);
  const { data: restores = [] } = useRestores(jobId);
  const finished = passes.filter((pass) => pass.state === "done").length;
  const restored = restores.some((restore) => restore.state === "done");
  const step = (begun: boolean, done: boolean): Progress => (done ? "done" : begun ? "begun" : "untouched");
  return {
    account: step(false, Boolean(job?.lost)),
    sources: step(false, sources.length > 0),
    search: step(passes.length > 0, finished > 0 && finished === passes.length),
    items: step(finished > 0, (tray?.count ?? 0) > 0),
    restore: step(restores.length > 0, restored),
    handover: step(false, false),
  };
}

/** The bar, the stages and the chart along the foot that every view of a job stands in. */
export function JobShell({ jobId, children }: { jobId: number; children: ReactNode }) {
  useJobEvents(jobId);
  const { data: job, error } = useJob(jobId);
  const progress = useProgress(jobId);
  const path = usePathname();
  const [lastList, setLastList] = useState("");
  // biome-ignore lint/correctness/useExhaustiveDependencies: read anew whenever another stage is shown
  useEffect(() => setLastList(sessionStorage.getItem(`compass-items-${jobId}`) ?? ""), [jobId, path]);
  return (
    <div className={styles.page}>
      <header className={styles.bar}>
        <Link href="/" className={styles.home} aria-label="All jobs">
          <Compass />
        </Link>
        <div className={styles.title}>
          <strong>{job?.title ?? " "}</strong>
          <span>{job?.client}</span>
        </div>
        <nav aria-label="Stages of the job">
          <ul className={styles.stages}>
            {STAGES.map((stage) => (
              <li key={stage}>
                <Link
                  href={`/jobs/${jobId}/${stage}${stage === "items" && lastList ? `?${lastList}` : ""}`}
                  aria-current={path.endsWith(`/${stage}`) ? "page" : undefined}
                >
                  <StageMark progress={progress[stage]} />
                  {STAGE_WORDS[stage]}
                </Link>
              </li>
            ))}
          </ul>
        </nav>
        <div className={styles.right}>
          <Running jobId={jobId} />
          <TrayLink jobId={jobId} />
          <ColourScheme />
        </div>
      </header>
      <main className={styles.main}>
        <h1 className="visually-hidden">{STAGE_WORDS[STAGES.find((stage) => path.endsWith(`/${stage}`)) ?? "account"]}</h1>
        {error ? <Problem>{problemText(error)}</Problem> : children}
      </main>
      <Elsewhere jobId={jobId} />
      <Foot jobId={jobId} />
    </div>
  );
}

const FOLDED = "compass-chart-folded";

/** The chart along the foot, which can be folded away; that is remembered in this browser. */
function Foot({ jobId }: { jobId: number }) {
  const [folded, setFolded] = useState(false);
  useEffect(() => setFolded(localStorage.getItem(FOLDED) === "yes"), []);
  const fold = (next: boolean) => {
    setFolded(next);
    if (next) localStorage.setItem(FOLDED, "yes");
    else localStorage.removeItem(FOLDED);
  };
  return (
    <footer className={styles.foot} data-folded={folded}>
      {!folded && <ChartStrip jobId={jobId} />}
      <button type="button" className={styles.fold} aria-expanded={!folded} onClick={() => fold(!folded)}>
        {folded ? "Show the chart" : "Fold away"}
      </button>
    </footer>
  );
}

function Running({ jobId }: { jobId: number }) {
  const { data: passes = [] } = usePasses(jobId);
  const running = passes.filter((pass) => pass.state === "running" || pass.state === "queued");
  const [first] = running;
  if (!first) return null;
  const share = first.total > 0 ? `${Math.floor((100 * first.done) / first.total)} %` : "waiting";
  return (
    <Link href={`/jobs/${jobId}/search`} className={styles.running}>
      {running.length === 1 ? `Reading ${first.volumeLabel}, ${share}` : `${running.length} passes running`}
    </Link>
  );
}

function TrayLink({ jobId }: { jobId: number }) {
  const { data: tray } = useTray(jobId);
  const count = tray?.count ?? 0;
  const fits = tray?.freeBytes === null || tray === undefined || tray.bytes <= tray.freeBytes;
  return (
    <Link href={`/jobs/${jobId}/restore`} className={styles.tray} data-filled={count > 0}>
      {count === 0 ? (
        <span className={styles.none}>tray is empty</span>
      ) : (
        <>
          <b>{countText(count)} in tray</b>
          <span>
            {bytesText(tray?.bytes ?? 0)}, {fits ? "fits" : "does not fit"}
          </span>
        </>
      )}
    </Link>
  );
}
