"use client";

import Button from "@mui/material/Button";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import type { Source } from "@/server/sources/contract";
import { write } from "../data/request";
import { keys } from "../data/use-job-data";
import { Problem, problemText } from "../instruments/Problem";
import { RenameForm } from "../instruments/RenameForm";
import { SourceBrowser } from "./SourceBrowser";
import styles from "./sources.module.css";

interface Props {
  jobId: number;
  source: Source;
}

function useSourceChange({ jobId, source }: Props) {
  const client = useQueryClient();
  const address = `/api/jobs/${jobId}/sources/${source.id}`;
  return useMutation({
    mutationFn: (change: { name: string } | { again: true } | { remove: true }) =>
      "remove" in change ? write("DELETE", `${address}?results=yes`) : write("PATCH", address, change),
    onSettled: () => client.invalidateQueries({ queryKey: keys.job(jobId) }),
  });
}

/** What a source is called here, and the path it is read from; the name can be changed. */
export function SourceTitle({ jobId, source }: Props) {
  const [renaming, setRenaming] = useState(false);
  const change = useSourceChange({ jobId, source });
  return (
    <>
      {!renaming ? (
        <h2>
          {source.name}{" "}
          <button type="button" className={styles.plain} onClick={() => setRenaming(true)}>
            Rename
          </button>
        </h2>
      ) : (
        <RenameForm
          label="Name of the source"
          name={source.name}
          busy={change.isPending}
          className={styles.typed}
          onKeep={(name) => change.mutate({ name }, { onSuccess: () => setRenaming(false) })}
          onCancel={() => setRenaming(false)}
        />
      )}
      <p className={styles.path}>
        {source.path}
        {source.within.map((file) => (
          <Fragment key={file}>
            <br />
            in it {file.slice(1)}
          </Fragment>
        ))}
      </p>
      <Problem>{problemText(change.error)}</Problem>
    </>
  );
}

/** A source that is not there now: what that means, and what can be done. */
export function Missing({ jobId, source }: Props) {
  const [browsing, setBrowsing] = useState(false);
  const client = useQueryClient();
  return (
    <div className={styles.missing} role="alert">
      <p style={{ margin: "0 0 8px" }}>
        {source.within.length > 0 ? "The source it lies in is not there now." : "It is not there now."} What was found in it stays and is
        listed; it cannot be looked into, read on or restored from until it is back. Connect the drive again, or say where the image is now.
      </p>
      <Button variant="outlined" onClick={() => client.invalidateQueries({ queryKey: keys.of(jobId, "sources") })} sx={{ mr: 2 }}>
        Look again
      </Button>
      {source.within.length === 0 && (
        <Button variant="outlined" onClick={() => setBrowsing(true)}>
          It is elsewhere now
        </Button>
      )}
      {browsing && <SourceBrowser jobId={jobId} relink={source} onClose={() => setBrowsing(false)} />}
    </div>
  );
}

/** Reads a source's structure anew, says where it is now, or takes it out of the job; what was found goes only after a second press. */
export function SourceActions({ jobId, source, searched }: Props & { searched: boolean }) {
  const [sure, setSure] = useState(false);
  const [browsing, setBrowsing] = useState(false);
  const change = useSourceChange({ jobId, source });
  return (
    <>
      <Button
        variant="outlined"
        disabled={change.isPending || !source.connected}
        title="Looks for its volumes again, and asks again for what could not be read"
        onClick={() => change.mutate({ again: true })}
      >
        Read its structure again
      </Button>
      {source.within.length === 0 && (
        <Button variant="outlined" disabled={change.isPending} onClick={() => setBrowsing(true)}>
          It is elsewhere now
        </Button>
      )}
      <Button
        variant="outlined"
        disabled={change.isPending}
        onClick={() => (searched && !sure ? setSure(true) : change.mutate({ remove: true }))}
      >
        {sure ? "Remove it with all that was found in it" : "Remove from the job"}
      </Button>
      {sure && (
        <Button variant="text" onClick={() => setSure(false)}>
          Keep it
        </Button>
      )}
      <Problem>{problemText(change.error)}</Problem>
      {browsing && <SourceBrowser jobId={jobId} relink={source} onClose={() => setBrowsing(false)} />}
    </>
  );
}
