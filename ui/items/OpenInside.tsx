"use client";

import Button from "@mui/material/Button";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import Link from "next/link";
import { z } from "zod";
import type { Copy } from "@/server/items/contract";
import { write } from "../data/request";
import { keys } from "../data/use-job-data";
import { Problem, problemText } from "../instruments/Problem";
import { useFacts } from "../previews/Preview";
import styles from "./items.module.css";

const added = z.object({ id: z.number() });

/** A copy that holds a disk: it can be taken as a source of its own, where it lies. */
export function OpenInside({ jobId, copy }: { jobId: number; copy: Copy }) {
  const client = useQueryClient();
  const { data: facts } = useFacts(copy.id);
  const open = useMutation({
    mutationFn: async () => added.parse(await write("POST", `/api/jobs/${jobId}/sources`, { copyId: copy.id })),
    onSettled: () => client.invalidateQueries({ queryKey: keys.job(jobId) }),
  });
  if (!facts?.disk) return null;
  return (
    <div className={styles.repair}>
      {open.data ? (
        <p role="status" style={{ margin: 0 }}>
          It is a source of its own now, read where it lies.{" "}
          <Link href={`/jobs/${jobId}/sources?source=${open.data.id}`}>See what is on it</Link>
        </p>
      ) : (
        <Button variant="outlined" disabled={open.isPending} onClick={() => open.mutate()}>
          {open.isPending ? "Looking what is on it …" : "Open what is inside"}
        </Button>
      )}
      <Problem>{problemText(open.error)}</Problem>
    </div>
  );
}
