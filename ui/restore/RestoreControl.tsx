"use client";

import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import type { Restore, RestoreChange } from "@/server/restores/contract";
import { write } from "../data/request";
import { keys } from "../data/use-job-data";
import { Problem, problemText } from "../instruments/Problem";
import { DeliveryField } from "./DeliveryField";
import styles from "./restore.module.css";

/** Pauses, continues or stops a restore that has not ended, or has the rest written to another folder. */
export function RestoreControl({ jobId, restore }: { jobId: number; restore: Restore }) {
  const client = useQueryClient();
  const [elsewhere, setElsewhere] = useState<string | null>(null);
  const change = useMutation({
    mutationFn: (what: RestoreChange) => write("PATCH", `/api/restores/${restore.id}`, what),
    onSuccess: () => setElsewhere(null),
    onSettled: () => client.invalidateQueries({ queryKey: keys.job(jobId) }),
  });
  const [place, setPlace] = useState<string | null>(null);
  const paused = restore.state === "paused";
  return (
    <>
      <div className={styles.form}>
        {paused ? (
          <Button variant="contained" disabled={change.isPending} onClick={() => change.mutate({ what: "resume" })}>
            Go on
          </Button>
        ) : (
          <Button
            variant="outlined"
            disabled={change.isPending || restore.wanted === "pause"}
            onClick={() => change.mutate({ what: "pause" })}
          >
            Pause
          </Button>
        )}
        <Button
          variant="outlined"
          disabled={change.isPending || restore.wanted === "stop"}
          onClick={() => change.mutate({ what: "stop" })}
          title="What is written stays; the rest stays in the tray"
        >
          Stop
        </Button>
        {paused && elsewhere === null && (
          <Button variant="text" onClick={() => setElsewhere(`${restore.destination || "Restored"}, the rest`)}>
            Write the rest to another folder …
          </Button>
        )}
      </div>
      {elsewhere !== null && (
        <form
          className={styles.form}
          onSubmit={(event) => {
            event.preventDefault();
            change.mutate({ what: "elsewhere", destination: elsewhere, delivery: place });
          }}
        >
          <TextField
            size="small"
            label="Folder in the delivery folder for the rest"
            value={elsewhere}
            autoFocus
            onChange={(event) => setElsewhere(event.target.value)}
            sx={{ width: 340 }}
          />
          <DeliveryField jobId={jobId} value={place} onChange={setPlace} />
          <Button type="submit" variant="contained" disabled={elsewhere.trim() === "" || change.isPending}>
            Write the rest there
          </Button>
          <Button variant="text" onClick={() => setElsewhere(null)}>
            Not yet
          </Button>
        </form>
      )}
      <Problem>{problemText(change.error)}</Problem>
    </>
  );
}
