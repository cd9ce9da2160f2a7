"use client";

import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { handover } from "@/server/handover/contract";
import type { JobSummary } from "@/server/jobs/contract";
import { read, write } from "../data/request";
import { useAddress } from "../data/use-address";
import { keys, useJob } from "../data/use-job-data";
import { Problem, problemText } from "../instruments/Problem";
import { HandoverArticle } from "./HandoverArticle";
import styles from "./handover.module.css";
import { SharedLinks } from "./SharedLinks";

/** The report: what was searched, found and restored, and what was not. Made to be printed. */
export function Handover({ jobId }: { jobId: number }) {
  const [address, change] = useAddress();
  const audience = address.get("for") === "file" ? "file" : "client";
  const { data: job } = useJob(jobId);
  const { data, error } = useQuery({
    queryKey: [...keys.of(jobId, "handover"), audience],
    queryFn: ({ signal }) => read(`/api/jobs/${jobId}/report?form=screen&for=${audience}`, handover, signal),
    placeholderData: (before) => before,
  });
  return (
    <>
      <div className={`${styles.tools} screen-only`}>
        <ToggleButtonGroup
          exclusive
          size="small"
          aria-label="Which report"
          value={audience}
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
        {(["pdf", "html", "csv", "json"] as const).map((form) => (
          <Button key={form} component="a" href={`/api/jobs/${jobId}/report?form=${form}&for=${audience}`} variant="outlined">
            {form.toUpperCase()}
          </Button>
        ))}
        <Button variant="contained" onClick={() => window.print()}>
          Print
        </Button>
      </div>
      {job && <WhoAndNumber key={`${job.technician} ${job.firm} ${job.number}`} job={job} />}
      <SharedLinks jobId={jobId} />
      <Problem>{problemText(error)}</Problem>
      {data && <HandoverArticle page={data} />}
    </>
  );
}

/** Who did the work and under which number: given in the report's first lines. */
function WhoAndNumber({ job }: { job: JobSummary }) {
  const client = useQueryClient();
  const [values, setValues] = useState({ technician: job.technician, firm: job.firm, number: job.number });
  const save = useMutation({
    mutationFn: () => write("PATCH", `/api/jobs/${job.id}`, values),
    onSettled: () => client.invalidateQueries({ queryKey: keys.job(job.id) }),
  });
  const changed = (Object.keys(values) as (keyof typeof values)[]).some((name) => values[name] !== job[name]);
  const field = (name: keyof typeof values, label: string, width: number) => (
    <TextField
      size="small"
      label={label}
      value={values[name]}
      onChange={(event) => setValues({ ...values, [name]: event.target.value })}
      sx={{ width }}
    />
  );
  return (
    <form
      className={`${styles.tools} screen-only`}
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate();
      }}
    >
      {field("technician", "Technician", 230)}
      {field("firm", "Firm", 260)}
      {field("number", "Job number", 150)}
      <Button type="submit" variant="outlined" disabled={!changed || save.isPending}>
        Put it on the page
      </Button>
      <Problem>{problemText(save.error)}</Problem>
    </form>
  );
}
