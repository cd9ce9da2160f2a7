"use client";

import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { sourceListing } from "@/server/sources/contract";
import { RequestError, read, write } from "../data/request";
import { useAddress } from "../data/use-address";
import { keys } from "../data/use-job-data";
import { Problem, problemText } from "../instruments/Problem";
import { bytesText, dateText } from "../instruments/words";
import styles from "./sources.module.css";

function Glyph({ folder }: { folder: boolean }) {
  return (
    <svg width="14" height="12" viewBox="0 0 14 12" aria-hidden="true">
      <path d={folder ? "M1 2.5h4l1.3 1.6H13V11H1z" : "M2.5 1h6L11.5 4v7h-9z"} fill="none" stroke="currentColor" />
    </svg>
  );
}

function DriveGlyph() {
  return (
    <svg width="14" height="12" viewBox="0 0 14 12" aria-hidden="true">
      <path d="M1 3h12v6H1zM10 6h1.5" fill="none" stroke="currentColor" />
    </svg>
  );
}

/** The answer for an image of which a part or parent is missing. */
const FILE_NEEDED = 424;

interface BrowserProps {
  jobId: number;
  /** A source that is at another place now: what is chosen is taken for it, and nothing is added. */
  relink?: { id: number; name: string };
  onClose: () => void;
}

/** Shows what lies in the source folders and adds the chosen image to the job, or says where a source of the job is now. */
export function SourceBrowser({ jobId, relink, onClose }: BrowserProps) {
  const [typed, setTyped] = useState("");
  const [path, setPath] = useState<string | null>(null);
  const client = useQueryClient();
  const [, change] = useAddress();
  const {
    data: listing,
    error,
    refetch,
    isFetching,
  } = useQuery({
    queryKey: ["source-files", path],
    queryFn: () => read(`/api/source-files${path ? `?path=${encodeURIComponent(path)}` : ""}`, sourceListing),
  });
  /** An image that asked for another file: what is chosen next is taken for that. */
  const [waiting, setWaiting] = useState<{ image: string; beside: string[] } | null>(null);
  const add = useMutation({
    mutationFn: ({ image, beside }: { image: string; beside: string[] }) =>
      relink
        ? write("PATCH", `/api/jobs/${jobId}/sources/${relink.id}`, { path: image })
        : write("POST", `/api/jobs/${jobId}/sources`, { path: image, beside }),
    onError: (problem, asked) => setWaiting(problem instanceof RequestError && problem.status === FILE_NEEDED ? asked : null),
    onSuccess: async (answer) => {
      await client.invalidateQueries({ queryKey: keys.job(jobId) });
      change({ source: String(relink?.id ?? (answer as { id: number }).id) }, true);
      onClose();
    },
  });
  const list = useMutation({
    mutationFn: (listed: boolean) => write("POST", "/api/source-files", { path: listing?.path, listed }),
    onSuccess: () => client.invalidateQueries({ queryKey: ["source-files"] }),
  });
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="sm" aria-labelledby="source-browser-title">
      <DialogTitle id="source-browser-title">{relink ? `Where is “${relink.name}” now?` : "Add a source"}</DialogTitle>
      <DialogContent sx={{ px: 5, minHeight: 300 }}>
        <p style={{ margin: "0 0 8px", fontFamily: "var(--mono)", fontSize: 12, overflowWrap: "anywhere" }}>
          {listing?.path ?? "Drives and source folders"}
        </p>
        <form
          className={styles.typed}
          onSubmit={(event) => {
            event.preventDefault();
            setPath(typed.trim() || null);
          }}
        >
          <input
            aria-label="Path of a folder or image"
            placeholder="/path of a folder or image"
            value={typed}
            onChange={(event) => setTyped(event.target.value)}
          />
          <Button type="submit" variant="outlined">
            Go
          </Button>
          <Button
            variant="outlined"
            disabled={add.isPending || typed.trim() === ""}
            onClick={() => add.mutate({ image: typed.trim(), beside: [] })}
          >
            Take it
          </Button>
        </form>
        <Problem>{problemText(error) ?? listing?.problem ?? problemText(add.error) ?? problemText(list.error)}</Problem>
        {waiting && (
          <p role="status" style={{ margin: "0 0 8px", fontSize: 13 }}>
            Choose the missing file for <b>{waiting.image.slice(waiting.image.lastIndexOf("/") + 1)}</b>, wherever it is.{" "}
            <button type="button" className={styles.plain} onClick={() => setWaiting(null)}>
              Another image instead
            </button>
          </p>
        )}
        {listing && listing.drives.length > 0 && !waiting && (
          <ul className={styles.drives} aria-label="Drives">
            {listing.drives.map((drive) => (
              <li key={drive.path}>
                <button
                  type="button"
                  className={styles.entry}
                  disabled={add.isPending || drive.problem !== null}
                  onClick={() => add.mutate({ image: drive.path, beside: [] })}
                >
                  <DriveGlyph />
                  <b>{drive.title}</b>
                  <span>{bytesText(drive.size)}</span>
                  <span>drive</span>
                </button>
                <Problem>{drive.problem ?? drive.warning}</Problem>
              </li>
            ))}
          </ul>
        )}
        {listing && listing.path === null && listing.drives.length === 0 && !waiting && (
          <p className={styles.noDrive} role="status">
            {listing.drivesHidden ? (
              "Drives are not shown: the setting COMPASS_DRIVES hides them."
            ) : (
              <>
                No drive is connected, but for the bench’s own.{" "}
                <button type="button" className={styles.plain} disabled={isFetching} onClick={() => refetch()}>
                  Look again
                </button>
              </>
            )}
          </p>
        )}
        {listing?.path && (
          <button type="button" className={styles.entry} onClick={() => setPath(listing.parent)}>
            <span aria-hidden="true">↑</span>
            <b>one folder up</b>
          </button>
        )}
        {listing?.entries.map((entry) => (
          <button
            key={entry.path}
            type="button"
            className={styles.entry}
            disabled={add.isPending || (entry.part !== null && !waiting)}
            title={entry.part === null ? undefined : `A further part of ${entry.part}, which takes it along`}
            onClick={() =>
              entry.folder
                ? setPath(entry.path)
                : add.mutate(
                    waiting ? { image: waiting.image, beside: [...waiting.beside, entry.path] } : { image: entry.path, beside: [] },
                  )
            }
          >
            <Glyph folder={entry.folder} />
            <b>{entry.name}</b>
            <span>{entry.folder ? "" : bytesText(entry.size)}</span>
            <span>{entry.part !== null ? `part of ${entry.part}` : entry.modified ? dateText(entry.modified, "UTC") : ""}</span>
          </button>
        ))}
        {listing && (listing.notes.length > 0 || listing.entries.length === 0) && !listing.problem && (
          <p style={{ fontSize: 13, color: "var(--mui-palette-chart-inkSoft)" }}>
            {listing.notes.length > 0 ? `Not shown: ${listing.notes.join(" ")}` : "This folder is empty."}
          </p>
        )}
      </DialogContent>
      <DialogActions>
        {listing?.path && !waiting && (
          <Button
            variant="outlined"
            disabled={add.isPending}
            title="A mounted drive, a copied profile, a backup disk: read file by file, never written"
            onClick={() => add.mutate({ image: listing.path as string, beside: [] })}
          >
            Take this folder as a source
          </Button>
        )}
        {listing?.path && listing.listed !== "by settings" && (
          <Button
            disabled={list.isPending}
            title="The list of source folders is what this window begins with"
            onClick={() => list.mutate(listing.listed === null)}
          >
            {listing.listed ? "Take off the list" : "Put on the list"}
          </Button>
        )}
        <span style={{ flex: 1 }} />
        <Button variant="outlined" onClick={onClose}>
          Cancel
        </Button>
      </DialogActions>
    </Dialog>
  );
}
