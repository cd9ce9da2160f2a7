"use client";

import Button from "@mui/material/Button";
import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableHead from "@mui/material/TableHead";
import TableRow from "@mui/material/TableRow";
import Link from "next/link";
import { Fragment } from "react";
import type { SetFacts, Source } from "@/server/sources/contract";
import { bytesText, countText, dateText, exactBytes, SET_KIND_WORDS } from "../instruments/words";
import styles from "./sources.module.css";

/** What the pass over earlier states knows of the backup sets on a volume and of its snapshots; nothing before it ran. */
export function Sets({ jobId, volume, several }: { jobId: number; volume: Source["volumes"][number]; several: boolean }) {
  if (volume.sets.length === 0) return null;
  const title = `Backup sets and snapshots${several ? ` of ${volume.label ?? `volume ${volume.number}`}` : ""}`;
  return (
    <>
      <h3 className={styles.part}>{title}</h3>
      <Table size="small" aria-label={title}>
        <TableHead>
          <TableRow>
            <TableCell>Set</TableCell>
            <TableCell>Of</TableCell>
            <TableCell>Covers</TableCell>
            <TableCell className={styles.number}>States</TableCell>
            <TableCell className={styles.number}>First (UTC)</TableCell>
            <TableCell className={styles.number}>Last (UTC)</TableCell>
            <TableCell className={styles.number}>Versions</TableCell>
            <TableCell className={styles.number}>Size</TableCell>
            <TableCell />
          </TableRow>
        </TableHead>
        <TableBody>
          {volume.sets.map((set) => (
            <SetRows key={`${set.kind} ${set.root} ${set.machine} ${set.user}`} jobId={jobId} storeId={volume.id} set={set} />
          ))}
        </TableBody>
      </Table>
    </>
  );
}

function SetRows({ jobId, storeId, set }: { jobId: number; storeId: number; set: SetFacts }) {
  const { key, kind, root, machine, user, covers, states, read, first, last, versions, bytes } = set;
  const notes = notesOf(set);
  return (
    <Fragment>
      <TableRow {...(notes.length > 0 ? { sx: { "& td": { borderBottom: 0, pb: 0 } } } : {})}>
        <TableCell>
          {root === "" ? "On the volume itself" : root.replace(/^\//, "")}
          <span className={styles.standing}>{SET_KIND_WORDS[kind]}</span>
        </TableCell>
        <TableCell>{[machine, user].filter((each) => each !== null).join(", ") || "–"}</TableCell>
        <TableCell>{covers?.replace(/^\/(?=[A-Z]:)/, "") ?? "–"}</TableCell>
        <TableCell className={styles.number}>
          {read < states ? `${countText(read)} of ${countText(states)} read` : countText(states)}
        </TableCell>
        <TableCell className={styles.number}>{momentText(first)}</TableCell>
        <TableCell className={styles.number}>{momentText(last)}</TableCell>
        <TableCell className={styles.number}>{countText(versions)}</TableCell>
        <TableCell className={styles.number} title={exactBytes(bytes)}>
          {bytesText(bytes)}
        </TableCell>
        <TableCell className={styles.number}>
          {last !== null && (
            <Button
              component={Link}
              size="small"
              href={`/jobs/${jobId}/items?${new URLSearchParams({
                show: "all",
                asOf: new Date(last).toISOString(),
                ...(key === null ? {} : { set: `${storeId}-${key}` }),
              })}`}
              aria-label={`List as of the last state of ${root || "the volume"}`}
            >
              List as of then
            </Button>
          )}
        </TableCell>
      </TableRow>
      {notes.length > 0 && (
        <TableRow>
          <TableCell colSpan={9} sx={{ pt: 0 }}>
            <ul className={styles.notes}>
              {notes.map((each) => (
                <li key={each}>{each}</li>
              ))}
            </ul>
          </TableCell>
        </TableRow>
      )}
    </Fragment>
  );
}

function notesOf({ unfinished, encrypted, notes, states }: SetFacts): string[] {
  return [
    ...(encrypted > 0 ? [`${countText(encrypted)} of its versions are encrypted: they are listed, and cannot be read.`] : []),
    ...(unfinished > 0 ? [`${countText(unfinished)} of its states broke off: what they do not have says nothing.`] : []),
    ...notes.map(({ what, states: said }) => (said === 0 || (said === 1 && states === 1) ? what : `${what} (${statesText(said)})`)),
  ];
}

const statesText = (count: number) => (count === 1 ? "1 state" : `${countText(count)} states`);
const momentText = (at: number | null) => dateText(at === null ? null : new Date(at), "UTC");
