"use client";

import Button from "@mui/material/Button";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Copy } from "@/server/items/contract";
import { type RepairLook, repairLook, repairWritten } from "@/server/repairs/contract";
import { read, write } from "../data/request";
import { Problem, problemText } from "../instruments/Problem";
import { bytesText } from "../instruments/words";
import styles from "./items.module.css";

/** Content that does not open: whether it can be repaired, how it looks before and after, and writing the repaired file. */
export function Repair({ copy }: { copy: Copy }) {
  const [asked, setAsked] = useState(false);
  const finding = copy.evidence.content?.finding;
  const { data, error, isFetching } = useQuery({
    queryKey: ["repair", copy.id],
    queryFn: () => read(`/api/copies/${copy.id}/repair`, repairLook),
    enabled: asked,
    staleTime: Number.POSITIVE_INFINITY,
  });
  if (copy.condition === "whole" || copy.condition === "name-only" || copy.size === 0 || finding === "zeros") return null;
  if (!asked)
    return (
      <p className={styles.repair}>
        <Button variant="outlined" onClick={() => setAsked(true)}>
          Try to repair it
        </Button>
      </p>
    );
  if (!data) return isFetching ? <p className={styles.repair}>Looking what can be saved …</p> : <Problem>{problemText(error)}</Problem>;
  return <Looked copy={copy} look={data} />;
}

function Looked({ copy, look }: { copy: Copy; look: RepairLook }) {
  const writing = useMutation({
    mutationFn: async () => repairWritten.parse(await write("POST", `/api/copies/${copy.id}/repair`)),
  });
  const { after } = look;
  if (!after)
    return (
      <p className={styles.repair} role="status">
        {look.before === null
          ? "It opens as it is: nothing needs repair."
          : `It does not open: ${look.before}. Nothing in it can be repaired here.`}
      </p>
    );
  return (
    <section className={styles.repair} aria-label="Repair">
      <dl className={styles.facts}>
        <dt>Before</dt>
        <dd>{look.before === null ? "opens" : `does not open: ${look.before}`}</dd>
        <dt>Repaired</dt>
        <dd>
          {after.problem === null ? "opens" : `still does not open: ${after.problem}`}, {bytesText(after.size)}
        </dd>
      </dl>
      {after.picture && (
        <div className={styles.beforeAfter}>
          <figure>
            <img src={`/api/copies/${copy.id}/picture`} alt="Before" />
            <figcaption>before</figcaption>
          </figure>
          <figure>
            <img src={`/api/copies/${copy.id}/repair/picture`} alt="Repaired" />
            <figcaption>repaired</figcaption>
          </figure>
        </div>
      )}
      <ul className={styles.notes}>
        {after.done.map((words) => (
          <li key={words}>{words}</li>
        ))}
        {after.like && <li>The sound file it was modelled on: {after.like}.</li>}
      </ul>
      {writing.data ? (
        <p role="status">
          Written to {writing.data.output}, {bytesText(writing.data.size)}, SHA-256 {writing.data.sha256.slice(0, 16)}…
        </p>
      ) : (
        <Button variant="outlined" disabled={writing.isPending} onClick={() => writing.mutate()}>
          Write the repaired file
        </Button>
      )}
      <Problem>{problemText(writing.error)}</Problem>
    </section>
  );
}
