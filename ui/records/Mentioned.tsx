"use client";

import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import FormControlLabel from "@mui/material/FormControlLabel";
import { useQuery } from "@tanstack/react-query";
import Link from "next/link";
import { useState } from "react";
import { type MentionedFiles, mentionedFiles } from "@/server/records/contract";
import { read } from "../data/request";
import { keys } from "../data/use-job-data";
import { Problem, problemText } from "../instruments/Problem";
import { CONDITION_WORDS, countText, LIKENESS_WORDS, PLACE_WORDS } from "../instruments/words";
import { useTrayChange } from "../items/use-tray-change";
import { breakable } from "./place-title";
import styles from "./records.module.css";
import { ASK_AGAIN } from "./use-records";

type File = MentionedFiles["files"][number];

/** Rows that are drawn at first, and with each further press. */
const AT_ONCE = 200;

/** @param isRead whether the entries are there */
export function useMentioned(jobId: number, copyId: number, together: string, isRead: boolean) {
  return useQuery({
    // A change of the tray makes it old, as it does an item.
    queryKey: [...keys.of(jobId, "item"), "mentioned", copyId, together],
    queryFn: ({ signal }) =>
      read(`/api/copies/${copyId}/records/mentioned?${new URLSearchParams({ with: together })}`, mentionedFiles, signal),
    staleTime: ({ state }) => (state.data?.working ? 0 : 60_000),
    refetchInterval: ({ state }) => (state.data?.working ? ASK_AGAIN : false),
    enabled: isRead,
    retry: false,
  });
}

/** Whether more than the name speaks for it. */
const isLikely = ({ found }: File) => found[0]?.like === "name-size" || found[0]?.like === "size-type";
/** Those between which nothing decides: all of them are put into the tray. */
const likest = ({ found }: File) => found.filter(({ like }) => like === found[0]?.like);
const idOf = ({ name, size }: File) => `${name} ${size ?? ""}`;

/** The files that messages speak of, with what the job has of them; the chosen ones go into the tray by one press. */
export function Mentioned({ jobId, copyId, mentioned }: { jobId: number; copyId: number; mentioned: MentionedFiles }) {
  const { change, error, isPending } = useTrayChange(jobId);
  /** What was ticked or unticked by hand; all that is likely is ticked by itself. */
  const [ticks, setTicks] = useState<ReadonlyMap<string, boolean>>(new Map());
  const [shown, setShown] = useState(AT_ONCE);
  const { files, notes } = mentioned;
  const found = files.filter((each) => each.found.length > 0);
  const isTicked = (file: File) => ticks.get(idOf(file)) ?? isLikely(file);
  const [expected, setExpected] = useState(true);
  const wanted = found
    .filter(isTicked)
    .flatMap((file) => likest(file).flatMap((each) => (each.chosen ? [] : [{ copyId: each.copyId, path: file.expected && file.path }])));
  const placed = wanted.filter(({ path }) => path !== null).length;
  const put = () => {
    const own = wanted.filter(({ path }) => !expected || path === null).map((each) => each.copyId);
    const there = wanted.filter(({ path }) => expected && path !== null);
    if (own.length > 0) change({ chosen: true, copies: own });
    if (there.length > 0) change({ chosen: true, database: copyId, expected: there });
  };
  return (
    <aside className={styles.mentioned} aria-label="Files mentioned">
      <h2>Files mentioned</h2>
      <p className={styles.note}>
        {countText(files.length)} {files.length === 1 ? "name" : "names"}; for {countText(found.length)} this job has files that are like{" "}
        {found.length === 1 ? "it" : "them"}, by name, size and type. What they held is written nowhere: look into them.
      </p>
      <ul aria-label="Files mentioned">
        {[...found, ...files.filter((each) => each.found.length === 0)].slice(0, shown).map((file) => (
          <FileRow
            key={idOf(file)}
            jobId={jobId}
            file={file}
            ticked={isTicked(file)}
            onTick={(ticked) => setTicks(new Map(ticks).set(idOf(file), ticked))}
          />
        ))}
      </ul>
      {files.length > shown && (
        <Button size="small" onClick={() => setShown(shown + AT_ONCE)}>
          More
        </Button>
      )}
      {placed > 0 && (
        <FormControlLabel
          className={styles.expected}
          control={<Checkbox size="small" checked={expected} onChange={(_, checked) => setExpected(checked)} />}
          label={`To the folders the application keeps them in: ${countText(placed)} of ${countText(wanted.length)}. Close it while they are put back.`}
        />
      )}
      <Problem>{problemText(error)}</Problem>
      <Button variant="contained" size="small" disabled={wanted.length === 0 || isPending} onClick={put}>
        {wanted.length === 0 ? "Nothing to put into the tray" : `Put ${countText(wanted.length)} into the tray`}
      </Button>
      {notes.map((note) => (
        <p key={note} className={styles.note}>
          {note}
        </p>
      ))}
    </aside>
  );
}

function FileRow({ jobId, file, ticked, onTick }: { jobId: number; file: File; ticked: boolean; onTick: (ticked: boolean) => void }) {
  const best = file.found[0];
  return (
    <li data-found={best !== undefined} data-chosen={best?.chosen}>
      <Checkbox
        size="small"
        checked={best !== undefined && (best.chosen || ticked)}
        disabled={best === undefined || best.chosen}
        onChange={(_, checked) => onTick(checked)}
        slotProps={{ input: { "aria-label": file.name } }}
      />
      <div>
        {best ? <Link href={`/jobs/${jobId}/items?show=all&item=${best.itemId}`}>{file.name}</Link> : <span>{file.name}</span>}
        <small>
          {best
            ? [
                best.chosen && "in the tray",
                LIKENESS_WORDS[best.like],
                PLACE_WORDS[best.place]?.toLowerCase(),
                CONDITION_WORDS[best.condition],
                best.name.toLowerCase() !== file.name.toLowerCase() && `there “${best.name}”`,
                likest(file).length > 1 && `${likest(file).length - 1} more just as like it`,
              ]
                .filter(Boolean)
                .join(", ")
            : file.inText
              ? "spoken of; none like it in this job"
              : "none like it in this job"}
        </small>
        {file.path && (
          <small title="Where the application kept it, as its row says">
            Belongs to {breakable(file.path)}
            {!file.expected && ", which is not on the database’s drive"}
          </small>
        )}
      </div>
    </li>
  );
}
