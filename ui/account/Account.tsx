"use client";

import Menu from "@mui/material/Menu";
import MenuItem from "@mui/material/MenuItem";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import Link from "next/link";
import { useEffect, useRef, useState } from "react";
import { type Account as AccountValues, CAUSES, EMPTY_ACCOUNT, LOST_KINDS, paragraph, SYSTEMS } from "@/server/accounts/contract";
import { write } from "../data/request";
import { keys, useAccount, useJob, usePasses, useSources, useTray } from "../data/use-job-data";
import { Problem, problemText } from "../instruments/Problem";
import { countText } from "../instruments/words";
import styles from "./account.module.css";

const SAVE_AFTER_MS = 500;

/** What was lost, as a sentence with blanks. Saved as it is filled. */
export function Account({ jobId }: { jobId: number }) {
  const { data: stored } = useAccount(jobId);
  const { data: job } = useJob(jobId);
  const { values, set, state, problem } = useSavedAccount(jobId, stored);
  if (!values) return null;
  const zone = job?.timeZone ?? "UTC";
  return (
    <div className={styles.page}>
      <section className={styles.left} aria-label="Account of the loss">
        <h1 className={styles.label}>What was lost</h1>
        <p className={styles.sentence}>
          The client lost{" "}
          <Choice label="Kind of file" empty="something" table={LOST_KINDS} value={values.kind} onChange={(kind) => set({ kind })} /> called
          something like{" "}
          <Words label="Name or part of it" empty="any name" value={values.nameHint} onChange={(nameHint) => set({ nameHint })} />, last
          seen in <Words label="Folder" empty="some folder" value={values.folder} onChange={(folder) => set({ folder })} /> on a{" "}
          <Choice label="System" empty="some system" table={SYSTEMS} value={values.system} onChange={(system) => set({ system })} />{" "}
          computer used by <Words label="User" empty="somebody" value={values.userName} onChange={(userName) => set({ userName })} />. They{" "}
          <Choice label="Cause" empty="did something" table={CAUSES} value={values.cause} onChange={(cause) => set({ cause })} /> around{" "}
          <Moment value={values.lostAt} onChange={(lostAt) => set({ lostAt })} />. It contained the words{" "}
          <Words
            label="Words it contained"
            empty="anything they remember"
            value={values.contained}
            onChange={(contained) => set({ contained })}
          />
          .
        </p>
        <p className={styles.saved} role="status">
          {state}
        </p>
        <Problem>{problem}</Problem>
      </section>
      <aside className={styles.right}>
        <h2 className={styles.label}>As it will be told</h2>
        <p className={styles.back}>{paragraph(values, zone)}</p>
        <Standing jobId={jobId} />
        {job && <Zone jobId={jobId} zone={job.timeZone} />}
      </aside>
    </div>
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

/** What has been done for this loss so far, and what comes next. */
function Standing({ jobId }: { jobId: number }) {
  const { data: sources = [] } = useSources(jobId);
  const { data: passes = [] } = usePasses(jobId);
  const { data: tray } = useTray(jobId);
  const lost = passes.reduce((sum, pass) => sum + pass.foundLost, 0);
  const rows = [
    { stage: "sources", words: "Sources", said: sources.length === 0 ? "none yet" : sources.map((source) => source.name).join(", ") },
    {
      stage: "search",
      words: "Search",
      said:
        passes.length === 0
          ? "nothing read yet"
          : `${passes.filter((pass) => pass.state === "done").length} of ${passes.length} passes finished`,
    },
    { stage: "items", words: "Items", said: `${countText(lost)} lost copies found` },
    { stage: "restore", words: "Tray", said: tray?.count ? `${tray.count} chosen` : "empty" },
  ];
  return (
    <>
      <h2 className={styles.label}>Where the job stands</h2>
      <ul className={styles.steps}>
        {rows.map((row) => (
          <li key={row.stage}>
            <Link href={`/jobs/${jobId}/${row.stage}`} style={{ color: "inherit" }}>
              {row.words}
            </Link>
            <span>{row.said}</span>
          </li>
        ))}
      </ul>
    </>
  );
}

function useSavedAccount(jobId: number, stored: AccountValues | undefined) {
  const client = useQueryClient();
  const [values, setValues] = useState<AccountValues | null>(null);
  const [state, setState] = useState("");
  const [problem, setProblem] = useState<string | null>(null);
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  const unsaved = useRef<AccountValues | null>(null);

  useEffect(() => {
    // What is being typed is newer than what the server knows.
    if (stored && !unsaved.current) setValues(stored);
  }, [stored]);

  const save = async () => {
    const sent = unsaved.current;
    if (!sent) return;
    try {
      await write("PUT", `/api/jobs/${jobId}/account`, sent);
      if (unsaved.current === sent) unsaved.current = null;
      client.setQueryData(keys.of(jobId, "account"), sent);
      setState("Saved.");
      setProblem(null);
    } catch (error) {
      setState("");
      setProblem(problemText(error));
    }
  };
  const latest = useRef(save);
  latest.current = save;
  // Leaving the view must not lose the last words.
  useEffect(() => () => void latest.current(), []);

  const set = (change: Partial<AccountValues>) => {
    const next = { ...(values ?? EMPTY_ACCOUNT), ...change };
    setValues(next);
    unsaved.current = next;
    setState("Saving …");
    clearTimeout(timer.current);
    timer.current = setTimeout(save, SAVE_AFTER_MS);
  };
  return { values, set, state, problem };
}

interface ChoiceProps<K extends string> {
  label: string;
  empty: string;
  table: Record<K, string>;
  value: K | null;
  onChange: (value: K | null) => void;
}

function Choice<K extends string>({ label, empty, table, value, onChange }: ChoiceProps<K>) {
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  const choose = (next: K | null) => {
    setAnchor(null);
    onChange(next);
  };
  return (
    <>
      <button
        type="button"
        className={styles.blank}
        data-empty={value === null}
        aria-haspopup="menu"
        aria-expanded={anchor !== null}
        aria-label={`${label}: ${value ? table[value] : "not known"}`}
        onClick={(event) => setAnchor(event.currentTarget)}
      >
        {value ? table[value] : empty}
      </button>
      <Menu
        anchorEl={anchor}
        open={anchor !== null}
        onClose={() => setAnchor(null)}
        slotProps={{ list: { dense: true, "aria-label": label } }}
      >
        {(Object.keys(table) as K[]).map((key) => (
          <MenuItem key={key} selected={key === value} onClick={() => choose(key)}>
            {table[key]}
          </MenuItem>
        ))}
        <MenuItem onClick={() => choose(null)} sx={{ color: "text.secondary", borderTop: "1px solid", borderColor: "divider" }}>
          not known
        </MenuItem>
      </Menu>
    </>
  );
}

function Words({
  label,
  empty,
  value,
  onChange,
}: {
  label: string;
  empty: string;
  value: string | null;
  onChange: (value: string | null) => void;
}) {
  return (
    <input
      className={styles.blank}
      data-empty={!value}
      aria-label={label}
      placeholder={empty}
      value={value ?? ""}
      maxLength={500}
      onChange={(event) => onChange(event.target.value || null)}
    />
  );
}

function Moment({ value, onChange }: { value: Date | null; onChange: (value: Date | null) => void }) {
  return (
    <input
      className={styles.blank}
      type="date"
      data-empty={!value}
      aria-label="When it was lost"
      value={value ? value.toISOString().slice(0, 10) : ""}
      onChange={(event) => onChange(event.target.value ? new Date(`${event.target.value}T12:00:00Z`) : null)}
    />
  );
}
