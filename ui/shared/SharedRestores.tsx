"use client";

import Button from "@mui/material/Button";
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { sharedFiles, sharedRestores } from "@/server/shares/contract";
import { read } from "../data/request";
import { Empty } from "../instruments/Empty";
import { Problem, problemText } from "../instruments/Problem";
import { bytesText, filesText, momentText } from "../instruments/words";
import styles from "./shared.module.css";

/** What was written for the client, each file read again after it was: one by one, or all in one. */
export function SharedRestores({ root, timeZone }: { root: string; timeZone: string }) {
  const { data, error } = useQuery({
    queryKey: [root, "restored"],
    queryFn: ({ signal }) => read(`${root}/restored`, sharedRestores, signal),
  });
  return (
    <div className={styles.body}>
      <Problem>{problemText(error)}</Problem>
      {data?.length === 0 && <Empty title="No files have been restored yet.">They stand here as soon as they are.</Empty>}
      {data && data.length > 0 && (
        <p className={styles.soft}>Each file was read again after it was written, or compared with the same one that was there already.</p>
      )}
      {data?.map(({ id, title, finishedAt, files, bytes }) => (
        <section key={id} aria-label={title || "Restored"} className={styles.restore}>
          <h2>{title || "Restored"}</h2>
          <p className={styles.soft}>
            {filesText(files)}, {bytesText(bytes)}
            {finishedAt ? `, ${momentText(finishedAt, timeZone)} ${timeZone}` : ", not finished yet"}
          </p>
          <div className={styles.row}>
            <Button component="a" href={`${root}/restored/${id}/zip`} variant="contained">
              Download all (ZIP)
            </Button>
            <Button component="a" href={`${root}/restored/${id}/tar`} variant="outlined">
              TAR
            </Button>
          </div>
          <Files root={root} restoreId={id} />
        </section>
      ))}
    </div>
  );
}

const REMARK = { verified: "", same: "", gaps: "parts of it are missing" } as const;

function Files({ root, restoreId }: { root: string; restoreId: number }) {
  const { data, error, hasNextPage, isFetching, fetchNextPage } = useInfiniteQuery({
    queryKey: [root, "restored", restoreId],
    queryFn: ({ pageParam, signal }) => read(`${root}/restored/${restoreId}/files?after=${pageParam}`, sharedFiles, signal),
    initialPageParam: 0,
    getNextPageParam: ({ next }) => next,
  });
  const files = data?.pages.flatMap((page) => page.files) ?? [];
  return (
    <>
      <Problem>{problemText(error)}</Problem>
      <ul className={styles.files} aria-label="Files">
        {files.map(({ id, name, size, state }) => (
          <li key={id}>
            <a href={`${root}/restored/${restoreId}/files/${id}`}>{name}</a>
            <span className={styles.soft}>{REMARK[state]}</span>
            <span className={styles.number}>{bytesText(size)}</span>
          </li>
        ))}
      </ul>
      {hasNextPage && (
        <Button variant="text" disabled={isFetching} onClick={() => void fetchNextPage()}>
          More
        </Button>
      )}
    </>
  );
}
