"use client";

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import {
  type Account as AccountValues,
  account,
  accountHistory,
  CAUSES,
  DRIVES,
  LOST_KINDS,
  MOST_ACCOUNTS,
  paragraph,
  SYSTEMS,
  USED_SINCE,
} from "@/server/accounts/contract";
import { read, write } from "../data/request";
import { keys, useJob } from "../data/use-job-data";
import { Problem, problemText } from "../instruments/Problem";
import { momentText } from "../instruments/words";
import { Fits } from "../plan/Fits";
import { Plan } from "../plan/Plan";
import styles from "./account.module.css";
import { Choice, Choices, Words } from "./blanks";
import { useSavedAccounts } from "./use-accounts";

/** What was lost, as sentences with blanks, saved as they are filled; beside them the plan that follows from them. */
export function Account({ jobId }: { jobId: number }) {
  const { data: job } = useJob(jobId);
  const { values, set, state, problem } = useSavedAccounts(jobId);
  const [chosen, setChosen] = useState(0);
  if (!values) return null;
  const zone = job?.timeZone ?? "UTC";
  const at = Math.min(chosen, values.length - 1);
  const stated = values[at] as AccountValues;
  const change = (part: Partial<AccountValues>) => set(values.map((each, index) => (index === at ? { ...each, ...part } : each)));
  return (
    <div className={styles.page}>
      <section className={styles.left} aria-label="Account of the loss">
        <h2 className={styles.label}>What was lost</h2>
        <Sentence stated={stated} change={change} />
        <p className={styles.saved} role="status">
          {state}
        </p>
        <Problem>{problem}</Problem>
        <div className={styles.also}>
          {values.map(
            (each, index) =>
              index !== at && (
                // biome-ignore lint/suspicious/noArrayIndexKey: the losses of a job are known by their order
                <p key={index}>
                  <b>Also lost:</b>{" "}
                  <button type="button" onClick={() => setChosen(index)}>
                    {paragraph(each, zone).replace("The client lost ", "")}
                  </button>
                </p>
              ),
          )}
          <p>
            {values.length < MOST_ACCOUNTS && (
              <button
                type="button"
                onClick={() => {
                  set([...values, account.parse({ system: stated.system, userName: stated.userName, drive: stated.drive })]);
                  setChosen(values.length);
                }}
              >
                Add another loss
              </button>
            )}
            {values.length > 1 && (
              <button
                type="button"
                onClick={() => {
                  set(values.filter((_, index) => index !== at));
                  setChosen(0);
                }}
              >
                Take this loss out
              </button>
            )}
          </p>
        </div>
        <h2 className={styles.label}>As the report will say it</h2>
        <p className={styles.back}>{paragraph(stated, zone)}</p>
        <History jobId={jobId} zone={zone} />
        {job && <Zone jobId={jobId} zone={job.timeZone} />}
      </section>
      <aside className={styles.right}>
        <Fits jobId={jobId} zone={zone} />
        <Plan jobId={jobId} />
      </aside>
    </div>
  );
}

/** One loss as a sentence. Every blank may stay empty. */
function Sentence({ stated, change }: { stated: AccountValues; change: (part: Partial<AccountValues>) => void }) {
  const moment = (label: string, empty: string, key: "lost" | "lastSaved" | "lastSeen") => (
    <>
      <Words
        label={label}
        empty={empty}
        longest={100}
        value={stated[key]?.text ?? null}
        onChange={(text) => change({ [key]: text === null ? null : { text, from: null, to: null } })}
      />
    </>
  );
  return (
    <p className={styles.sentence}>
      The client lost{" "}
      <Words
        label="How many"
        empty="some"
        longest={9}
        value={stated.count === null ? null : String(stated.count)}
        onChange={(text) => {
          const count = Number(text);
          change({ count: text && Number.isInteger(count) && count > 0 ? count : null });
        }}
      />{" "}
      <Choices label="Kind of file" empty="files" table={LOST_KINDS} value={stated.kinds} onChange={(kinds) => change({ kinds })} /> called
      something like{" "}
      <Words
        label="Name or part of it"
        empty="any name"
        value={stated.nameHint}
        onChange={(nameHint) => change({ nameHint })}
        longest={200}
      />{" "}
      ending in{" "}
      <Words
        label="Extension"
        empty="any extension"
        value={stated.extension}
        onChange={(extension) => change({ extension })}
        longest={20}
      />
      , last seen in <Words label="Folder" empty="some folder" value={stated.folder} onChange={(folder) => change({ folder })} /> on a{" "}
      <Choice label="System" empty="some system" table={SYSTEMS} value={stated.system} onChange={(system) => change({ system })} />
      {stated.system !== "card" && (
        <>
          {" "}
          computer with{" "}
          <Choice label="Drive" empty="some drive" table={DRIVES} value={stated.drive} onChange={(drive) => change({ drive })} />
        </>
      )}
      , used by <Words label="User" empty="somebody" value={stated.userName} onChange={(userName) => change({ userName })} longest={100} />.
      They <Choice label="Cause" empty="did something" table={CAUSES} value={stated.cause} onChange={(cause) => change({ cause })} />{" "}
      {moment("When it was lost", "at some time", "lost")}. It was last saved{" "}
      {moment("When it was last saved", "at some time", "lastSaved")} and last seen{" "}
      {moment("When it was last seen", "at some time", "lastSeen")}. It contained the words{" "}
      <Words
        label="Words it contained"
        empty="anything they remember"
        value={stated.contained}
        onChange={(contained) => change({ contained })}
      />
      . The drive was{" "}
      <Choice
        label="Use since the loss"
        empty="used or not since"
        table={USED_SINCE}
        value={stated.usedSince}
        onChange={(usedSince) => change({ usedSince })}
      />
      . Tried already:{" "}
      <Words
        label="Tried already"
        empty="nothing that is known"
        value={stated.tried}
        onChange={(tried) => change({ tried })}
        longest={1000}
      />
      .
    </p>
  );
}

/** What was said before: a client remembers more as time goes by, and sometimes otherwise. */
function History({ jobId, zone }: { jobId: number; zone: string }) {
  const [open, setOpen] = useState(false);
  const { data = [], error } = useQuery({
    queryKey: [...keys.of(jobId, "accounts"), "history"],
    queryFn: () => read(`/api/jobs/${jobId}/accounts/history`, accountHistory),
    enabled: open,
  });
  return (
    <details className={styles.history} onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary>What was said before</summary>
      <Problem>{problemText(error)}</Problem>
      <ul>
        {data.map(({ at, sentences }) => (
          <li key={at.getTime()}>
            <span>{momentText(at, zone)}</span> {sentences.join(" ")}
          </li>
        ))}
      </ul>
    </details>
  );
}

/** The zone the job's times are shown in: the client's drive may come from another one than the bench. */
function Zone({ jobId, zone }: { jobId: number; zone: string }) {
  const client = useQueryClient();
  const set = useMutation({
    mutationFn: (timeZone: string) => write("PATCH", `/api/jobs/${jobId}`, { timeZone }),
    onSettled: () => client.invalidateQueries({ queryKey: keys.job(jobId) }),
  });
  const zones = [...new Set(["UTC", zone, ...Intl.supportedValuesOf("timeZone")])];
  return (
    <>
      <p className={styles.zone}>
        Times of this job are shown in{" "}
        <select aria-label="Time zone of the job" value={zone} onChange={(event) => set.mutate(event.target.value)}>
          {zones.map((each) => (
            <option key={each}>{each}</option>
          ))}
        </select>
      </p>
      <Problem>{problemText(set.error)}</Problem>
    </>
  );
}
