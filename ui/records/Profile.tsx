"use client";

import Button from "@mui/material/Button";
import Link from "next/link";
import { useState } from "react";
import { itemQuery } from "@/server/items/contract";
import { Problem, problemText } from "../instruments/Problem";
import { filesText } from "../instruments/words";
import { useFacets } from "../items/use-items";
import { useTrayChange } from "../items/use-tray-change";
import { breakable } from "./place-title";
import styles from "./records.module.css";

interface Props {
  readonly jobId: number;
  readonly homeId: number;
  /** The folder of the database, "/" first. */
  readonly folder: string;
}

/** Folders above which nothing is an application's own: those of users, and of all users together. */
const SHALLOWEST = 3;

/** All that stands in the folder of an application: its database with logs, settings and received files go back together. */
export function Profile({ jobId, homeId, folder }: Props) {
  const parent = folder.slice(0, folder.lastIndexOf("/"));
  const folders = [folder, ...(parent.split("/").length > SHALLOWEST ? [parent] : [])];
  const [chosen, setChosen] = useState(folder);
  const query = itemQuery.parse({ folder: chosen, home: homeId, show: "all" });
  const { data, error, isPlaceholderData } = useFacets(jobId, query);
  const tray = useTrayChange(jobId);
  const [put, setPut] = useState<string | null>(null);
  const files = data?.kind.reduce((sum, each) => sum + each.count, 0) ?? 0;
  const words = filesText(files);
  return (
    <section className={styles.profile} aria-label="Its folder as a whole">
      <h2>Its folder as a whole</h2>
      <p className={styles.note}>
        The files an application keeps for one user belong together: the database, its logs, settings, and what it received.
      </p>
      <select aria-label="Which folder" value={chosen} onChange={(event) => setChosen(event.target.value)}>
        {folders.map((each) => (
          <option key={each}>{each}</option>
        ))}
      </select>
      <Problem>{problemText(error ?? tray.error)}</Problem>
      <Link href={`/jobs/${jobId}/items?${new URLSearchParams({ show: "all", folder: chosen, home: String(homeId) })}`}>
        See its {data ? words : "files"}
      </Link>
      <Button
        variant="outlined"
        size="small"
        disabled={files === 0 || isPlaceholderData || tray.isPending}
        onClick={() => {
          setPut(chosen);
          tray.change({ matching: query, chosen: true });
        }}
      >
        {files === 1 ? "Put its file into the tray" : `Put all ${words} into the tray`}
      </Button>
      {put !== null && !tray.isPending && !tray.error && (
        <p className={styles.note} role="status">
          What stands in {breakable(put)} is in the tray, live and deleted: of each file the best copy, or the one that was chosen before.
          Close the application while it is put back.
        </p>
      )}
    </section>
  );
}
