"use client";

import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import Link from "next/link";
import { useRouter } from "next/navigation";
import { type FormEvent, useState } from "react";
import { z } from "zod";
import { type JobSummary, jobSummary } from "@/server/jobs/contract";
import { read, write } from "../data/request";
import { useAddress } from "../data/use-address";
import { Empty } from "../instruments/Empty";
import { Problem, problemText } from "../instruments/Problem";
import { countText, lostText, lostTotal, momentText } from "../instruments/words";
import { ColourScheme } from "../shell/ColourScheme";
import { Compass } from "../shell/Compass";
import styles from "./bench.module.css";

/** All jobs on the bench. */
export function Bench() {
  const { data: jobs, error } = useQuery({
    queryKey: ["jobs"],
    queryFn: () => read("/api/jobs", z.array(jobSummary)),
    refetchInterval: 5000,
  });
  const [address, change] = useAddress();
  const adding = address.get("new") === "yes";
  const setAdding = (open: boolean) => change({ new: open ? "yes" : null });
  const query = (address.get("q") ?? "").toLowerCase();
  const archived = address.get("archived") === "yes";
  const shown = (jobs ?? []).filter(
    (job) => job.archived === archived && `${job.title} ${job.client} ${job.lost ?? ""}`.toLowerCase().includes(query),
  );
  const archivedCount = (jobs ?? []).filter((job) => job.archived).length;
  return (
    <div className={styles.page}>
      <header className={styles.bar}>
        <Compass />
        <h1>Tidy Compass</h1>
        <span style={{ flex: 1 }} />
        <Link href="/places" style={{ color: "inherit", fontSize: 13 }}>
          Known places
        </Link>
        <Link href="/settings" style={{ color: "inherit", fontSize: 13 }}>
          Settings
        </Link>
        <ColourScheme />
      </header>
      <main className={styles.body}>
        <div className={styles.tools}>
          <TextField
            size="small"
            placeholder="Find a job"
            value={address.get("q") ?? ""}
            onChange={(event) => change({ q: event.target.value })}
            slotProps={{ htmlInput: { "aria-label": "Find a job" } }}
            sx={{ width: 320 }}
          />
          {(archivedCount > 0 || archived) && (
            <Button variant="text" onClick={() => change({ archived: archived ? null : "yes" }, true)}>
              {archived ? "Open jobs" : `Archive (${archivedCount})`}
            </Button>
          )}
          <span style={{ flex: 1 }} />
          {!adding && (
            <Button variant="contained" onClick={() => setAdding(true)}>
              New job
            </Button>
          )}
        </div>
        {adding && <NewJob onClose={() => setAdding(false)} />}
        <Problem>{problemText(error)}</Problem>
        {jobs && shown.length === 0 ? (
          <Empty title={query ? "No job holds these words." : archived ? "The archive is empty." : "No jobs yet."}>
            {!query && !archived && "A job is one client’s recovery: begin with “New job”."}
          </Empty>
        ) : (
          <ul className={styles.jobs}>
            {shown.map((job) => (
              <JobRow key={job.id} job={job} />
            ))}
          </ul>
        )}
      </main>
    </div>
  );
}

/** The stage at which the work on a job goes on. */
function nextStage(job: JobSummary): string {
  if (!job.lost) return "account";
  if (job.sources === 0) return "sources";
  return lostTotal(job.lostItems) > 0 ? "items" : "search";
}

function JobRow({ job }: { job: JobSummary }) {
  const client = useQueryClient();
  const archive = useMutation({
    mutationFn: () => write("PATCH", `/api/jobs/${job.id}`, { archived: !job.archived }),
    onSettled: () => client.invalidateQueries({ queryKey: ["jobs"] }),
  });
  const facts = [
    job.sources === 1 ? "1 source" : `${job.sources} sources`,
    job.searched ? lostText(job.lostItems) : "not searched yet",
    job.restored > 0 ? `${countText(job.restored)} restored and verified` : null,
    job.restoredWithGaps > 0 ? `${countText(job.restoredWithGaps)} restored with gaps` : null,
    job.running > 0 ? `${job.running} ${job.running === 1 ? "pass" : "passes"} running` : null,
    job.problems > 0 ? `${job.problems} ${job.problems === 1 ? "pass" : "passes"} failed` : null,
  ].filter(Boolean);
  const [renaming, setRenaming] = useState(false);
  if (renaming) return <Rename job={job} onClose={() => setRenaming(false)} />;
  return (
    <li className={styles.job}>
      <div>
        <h2>
          <Link href={`/jobs/${job.id}/${nextStage(job)}`}>{job.title}</Link>
        </h2>
        <p>{job.client || "No client named"}</p>
        <p>{job.lost ?? "What was lost is not written down yet."}</p>
      </div>
      <div className={styles.facts}>
        {facts.join(", ")}
        <br />
        {momentText(job.lastActivity, job.timeZone)} {job.timeZone}
      </div>
      <span style={{ display: "flex", flexDirection: "column", alignItems: "end" }}>
        <Button variant="text" aria-label={`Rename ${job.title}`} onClick={() => setRenaming(true)}>
          Rename
        </Button>
        <Button variant="text" onClick={() => archive.mutate()} disabled={archive.isPending}>
          {job.archived ? "Take out" : "Archive"}
        </Button>
      </span>
    </li>
  );
}

/** Another title for a job, or another client. */
function Rename({ job, onClose }: { job: JobSummary; onClose: () => void }) {
  const client = useQueryClient();
  const [values, setValues] = useState({ title: job.title, client: job.client });
  const save = useMutation({
    mutationFn: () => write("PATCH", `/api/jobs/${job.id}`, values),
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: ["jobs"] });
      onClose();
    },
  });
  return (
    <li>
      <form
        className={styles.new}
        onSubmit={(event) => {
          event.preventDefault();
          save.mutate();
        }}
      >
        <TextField
          autoFocus
          size="small"
          label="Title"
          value={values.title}
          onChange={(event) => setValues({ ...values, title: event.target.value })}
          sx={{ flex: 2 }}
        />
        <TextField
          size="small"
          label="Client"
          value={values.client}
          onChange={(event) => setValues({ ...values, client: event.target.value })}
          sx={{ flex: 1 }}
        />
        <Button type="submit" variant="contained" disabled={save.isPending}>
          Keep
        </Button>
        <Button variant="outlined" onClick={onClose}>
          Cancel
        </Button>
      </form>
      <Problem>{problemText(save.error)}</Problem>
    </li>
  );
}

/** Where the bench stands is where its clients usually live. */
const browserZone = () => Intl.DateTimeFormat().resolvedOptions().timeZone || undefined;

function NewJob({ onClose }: { onClose: () => void }) {
  const router = useRouter();
  const [title, setTitle] = useState("");
  const [client, setClient] = useState("");
  const create = useMutation({
    mutationFn: async () =>
      z.object({ id: z.number() }).parse(await write("POST", "/api/jobs", { title, client, timeZone: browserZone() })),
    onSuccess: ({ id }) => router.push(`/jobs/${id}/account`),
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    create.mutate();
  };
  return (
    <form onSubmit={submit}>
      <div className={styles.new}>
        <TextField autoFocus size="small" label="Title" value={title} onChange={(event) => setTitle(event.target.value)} sx={{ flex: 2 }} />
        <TextField size="small" label="Client" value={client} onChange={(event) => setClient(event.target.value)} sx={{ flex: 1 }} />
        <Button type="submit" variant="contained" disabled={create.isPending}>
          Open job
        </Button>
        <Button variant="outlined" onClick={onClose}>
          Cancel
        </Button>
      </div>
      <Problem>{problemText(create.error)}</Problem>
    </form>
  );
}
