"use client";

import Button from "@mui/material/Button";
import LinearProgress from "@mui/material/LinearProgress";
import Menu from "@mui/material/Menu";
import MenuItem from "@mui/material/MenuItem";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import Link from "next/link";
import { type ReactNode, useState } from "react";
import { type PlanChange, type PlanStep, type Plan as PlanValues, STEP_TITLES } from "@/server/plan/contract";
import { write } from "../data/request";
import { keys, usePlan } from "../data/use-job-data";
import { Problem, problemText } from "../instruments/Problem";
import { countText, durationText, PLACE_WORDS } from "../instruments/words";
import styles from "./plan.module.css";

const OVER: readonly PlanStep["state"][] = ["skipped", "not needed"];

/** Where to look and why, in the order in which it is worth doing. */
export function Plan({ jobId }: { jobId: number }) {
  const { data: plan, error } = usePlan(jobId);
  const client = useQueryClient();
  const change = useMutation({
    mutationFn: (what: PlanChange) => write("POST", `/api/jobs/${jobId}/plan`, what),
    onSettled: () => client.invalidateQueries({ queryKey: keys.job(jobId) }),
  });
  if (!plan) return <Problem>{problemText(error)}</Problem>;
  const waiting = plan.steps.filter((step) => step.runs && step.state === "to do");
  const active = plan.steps.some((step) => step.state === "running" || step.state === "waiting");
  const move = (key: string, by: number) => {
    const order = plan.steps.map((step) => step.key);
    const from = order.indexOf(key);
    const to = from + by;
    if (to < 0 || to >= order.length) return;
    order.splice(to, 0, ...order.splice(from, 1));
    change.mutate({ do: "order", keys: order });
  };
  return (
    <section aria-labelledby="plan-title" className={styles.plan}>
      <div className={styles.head}>
        <h2 id="plan-title">Where to look, cheapest first</h2>
        {active && (
          <Button variant="outlined" disabled={change.isPending} onClick={() => change.mutate({ do: "stop all" })}>
            Stop
          </Button>
        )}
        {waiting.length > 0 && (
          <Button variant="contained" disabled={change.isPending} onClick={() => change.mutate({ do: "run all" })}>
            Run in order
          </Button>
        )}
      </div>
      {plan.found && <Found jobId={jobId} found={plan.found} onGoOn={() => change.mutate({ do: "found", itemId: null })} />}
      {plan.warnings.map((warning) => (
        <p key={warning} className={styles.warning}>
          {warning}
        </p>
      ))}
      <Problem>{problemText(change.error)}</Problem>
      <ol className={styles.steps} aria-label="Steps of the plan">
        {grouped(plan.steps).map((steps) => {
          const row = (step: PlanStep) => {
            const index = plan.steps.indexOf(step);
            return (
              <Step
                key={step.key}
                jobId={jobId}
                step={step}
                number={index + 1}
                last={index === plan.steps.length - 1}
                busy={change.isPending}
                onChange={change.mutate}
                onMove={move}
              />
            );
          };
          const [first] = steps;
          if (!first) return null;
          return steps.length > 1 ? (
            <StepGroup
              key={`group ${first.key}`}
              steps={steps}
              first={plan.steps.indexOf(first) + 1}
              busy={change.isPending}
              onChange={change.mutate}
            >
              {steps.map(row)}
            </StepGroup>
          ) : (
            row(first)
          );
        })}
      </ol>
      <Add plan={plan} onAdd={(kind) => change.mutate({ do: "add", kind })} />
      {plan.against.length > 0 && (
        <details className={styles.against}>
          <summary>Advised against</summary>
          <ul>
            {plan.against.map((words) => (
              <li key={words}>{words}</li>
            ))}
          </ul>
        </details>
      )}
    </section>
  );
}

/** More steps of one kind in a row than this stand together: of very many volumes they would fill pages. */
const MOST_ALONE = 3;

/** The steps in their order; long rows of one kind together. */
function grouped(steps: readonly PlanStep[]): PlanStep[][] {
  const rows: PlanStep[][] = [];
  for (const step of steps) {
    const last = rows[rows.length - 1];
    if (last?.[0]?.kind === step.kind) last.push(step);
    else rows.push([step]);
  }
  return rows.flatMap((row) => (row.length > MOST_ALONE ? [row] : row.map((step) => [step])));
}

interface GroupProps {
  steps: readonly PlanStep[];
  first: number;
  busy: boolean;
  onChange: (change: PlanChange) => void;
  children: ReactNode;
}

/** One kind of step over many volumes: what came of them all, and each by itself when it is asked for. */
function StepGroup({ steps, first, busy, onChange, children }: GroupProps) {
  const [step] = steps;
  if (!step) return null;
  const of = (state: PlanStep["state"]) => steps.filter((each) => each.state === state);
  const open = of("to do").filter((each) => each.runs);
  const found = steps.flatMap((each) => each.found).reduce((sum, { count }) => sum + count, 0);
  const seconds = open.reduce((sum, each) => sum + (each.seconds ?? 0), 0);
  const said = (["done", "running", "waiting", "paused", "failed", "skipped", "not needed", "to do"] as const).flatMap((state) =>
    of(state).length > 0 ? [`${countText(of(state).length)} ${state}`] : [],
  );
  return (
    <li className={styles.step} data-state={of("running").length > 0 ? "running" : "to do"}>
      <span className={styles.number} aria-hidden="true">
        {first}
      </span>
      <div>
        <b>{step.title}</b>
        <span className={styles.where}>{countText(steps.length)} volumes</span>
      </div>
      <span className={styles.time}>{seconds > 0 ? `about ${durationText(seconds * 1000)}` : ""}</span>
      <span className={styles.result}>{found > 0 ? `${countText(found)} found` : step.chance}</span>
      <div className={styles.body}>
        <p>
          {step.reason} {said.join(", ")}.
        </p>
        <div className={styles.actions}>
          {open.length > 0 && (
            <button type="button" disabled={busy} onClick={() => onChange({ do: "run some", keys: open.map(({ key }) => key) })}>
              Run all of these
            </button>
          )}
        </div>
        <details>
          <summary>Each by itself</summary>
          <ol className={styles.steps}>{children}</ol>
        </details>
      </div>
    </li>
  );
}

function Found({ jobId, found, onGoOn }: { jobId: number; found: NonNullable<PlanValues["found"]>; onGoOn: () => void }) {
  return (
    <p className={styles.found} role="status">
      Found:{" "}
      <Link href={`/jobs/${jobId}/items?item=${found.itemId}&show=all`}>
        {found.folder.slice(1)}/{found.name}
      </Link>
      . What is left of the plan is not needed.{" "}
      <button type="button" onClick={onGoOn}>
        Go on looking
      </button>
    </p>
  );
}

interface StepProps {
  jobId: number;
  step: PlanStep;
  number: number;
  last: boolean;
  busy: boolean;
  onChange: (change: PlanChange) => void;
  onMove: (key: string, by: number) => void;
}

function Step({ jobId, step, number, last, busy, onChange, onMove }: StepProps) {
  const [asked, setAsked] = useState<"skip" | "done by hand" | null>(null);
  const open = step.state === "to do" || step.state === "paused" || step.state === "failed";
  const over = OVER.includes(step.state);
  return (
    <li className={styles.step} data-state={step.state}>
      <span className={styles.number} aria-hidden="true">
        {over ? "–" : number}
      </span>
      <div>
        <b>{step.title}</b>
        <span className={styles.where}>{step.where}</span>
      </div>
      <span className={styles.time}>{timeText(step)}</span>
      <span className={styles.result}>
        <Result jobId={jobId} step={step} />
      </span>
      <div className={styles.body}>
        <p>{step.reason}</p>
        {step.state === "running" && (
          <LinearProgress
            aria-label={`Progress of ${step.title}`}
            variant={step.progress > 0 ? "determinate" : "indeterminate"}
            value={100 * step.progress}
            sx={{ my: 1 }}
          />
        )}
        {step.note && <p className={styles.note}>{step.note}</p>}
        <details>
          <summary>Chance, limits</summary>
          <p>
            {step.chanceReason} It cannot find: {lowerFirst(step.cannotFind)}
          </p>
        </details>
        {asked ? (
          <Ask
            label={asked === "skip" ? "Why it is skipped" : "What came of it"}
            onSay={(words) => {
              onChange(
                asked === "skip"
                  ? { do: "skip", key: step.key, why: words || "Not worth it." }
                  : { do: "done by hand", key: step.key, note: words },
              );
              setAsked(null);
            }}
            onLeave={() => setAsked(null)}
          />
        ) : (
          <div className={styles.actions}>
            {step.runs && step.state === "to do" && (
              <button type="button" disabled={busy} onClick={() => onChange({ do: "run", key: step.key })}>
                Run
              </button>
            )}
            {!step.runs && open && (
              <button type="button" disabled={busy} onClick={() => setAsked("done by hand")}>
                Done by hand
              </button>
            )}
            {open && (
              <button type="button" disabled={busy} onClick={() => setAsked("skip")}>
                Skip
              </button>
            )}
            {(step.state === "skipped" || (step.state === "done" && !step.runs)) && (
              <button type="button" disabled={busy} onClick={() => onChange({ do: "take up", key: step.key })}>
                Take up again
              </button>
            )}
            <button type="button" disabled={busy || number === 1} aria-label={`Move ${step.title} up`} onClick={() => onMove(step.key, -1)}>
              ↑
            </button>
            <button type="button" disabled={busy || last} aria-label={`Move ${step.title} down`} onClick={() => onMove(step.key, 1)}>
              ↓
            </button>
          </div>
        )}
      </div>
    </li>
  );
}

function Result({ jobId, step }: { jobId: number; step: PlanStep }) {
  if (step.found.length > 0)
    return step.found.map(({ place, count }) => (
      <Link key={place} href={`/jobs/${jobId}/items?place=${place}`} title={PLACE_WORDS[place]}>
        {countText(count)} {step.found.length > 1 ? PLACE_WORDS[place]?.toLowerCase() : "found"}
      </Link>
    ));
  if (step.state === "done") return step.runs ? "none" : "done";
  if (step.state === "to do") return step.chance;
  return step.state === "running" ? "running" : step.state;
}

function timeText(step: PlanStep): string {
  if (step.seconds === null || step.state === "done" || OVER.includes(step.state)) return "";
  return `about ${durationText(step.seconds * 1000)}`;
}

const lowerFirst = (text: string) => text.charAt(0).toLowerCase() + text.slice(1);

function Ask({ label, onSay, onLeave }: { label: string; onSay: (words: string) => void; onLeave: () => void }) {
  const [words, setWords] = useState("");
  return (
    <form
      className={styles.ask}
      onSubmit={(event) => {
        event.preventDefault();
        onSay(words.trim());
      }}
    >
      <input
        // biome-ignore lint/a11y/noAutofocus: it appears because it was asked for
        autoFocus
        aria-label={label}
        placeholder={label}
        value={words}
        maxLength={500}
        onChange={(event) => setWords(event.target.value)}
        onKeyDown={(event) => event.key === "Escape" && onLeave()}
      />
      <button type="submit">Note it</button>
    </form>
  );
}

/** Steps the plan does not have and the technician may want. */
function Add({ plan, onAdd }: { plan: PlanValues; onAdd: (kind: PlanStep["kind"]) => void }) {
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  const present = new Set(plan.steps.map((step) => step.kind));
  const missing = (Object.keys(STEP_TITLES) as PlanStep["kind"][]).filter((kind) => !present.has(kind));
  if (missing.length === 0) return null;
  return (
    <>
      <button type="button" className={styles.add} aria-haspopup="menu" onClick={(event) => setAnchor(event.currentTarget)}>
        Add a step
      </button>
      <Menu
        anchorEl={anchor}
        open={anchor !== null}
        onClose={() => setAnchor(null)}
        slotProps={{ list: { dense: true, "aria-label": "Steps to add" } }}
      >
        {missing.map((kind) => (
          <MenuItem
            key={kind}
            onClick={() => {
              setAnchor(null);
              onAdd(kind);
            }}
          >
            {STEP_TITLES[kind]}
          </MenuItem>
        ))}
      </Menu>
    </>
  );
}
