"use client";

import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import { useEffect, useMemo, useRef } from "react";
import { type ItemQuery, ROWS, type Rows } from "@/server/items/contract";
import { useAddress } from "../data/use-address";
import { useJob } from "../data/use-job-data";
import { momentText } from "../instruments/words";
import styles from "./items.module.css";
import { asOfAddress, type Moment, momentStep, type StepTo } from "./moments";

/** Keys that step in time wherever the list has the keyboard, but not where something is typed. */
const KEYS: Readonly<Record<string, StepTo>> = { "[": "before", "]": "after", "\\": "before-loss" };

const ROWS_WORDS: Readonly<Record<Rows, string>> = { newest: "Newest versions", each: "All versions" };
const isRows = (value: string): value is Rows => (ROWS as readonly string[]).includes(value);

/** The mark in time: the list as it is now, as it was when a snapshot or backup was made, or the versions of all times. */
export function AsOf({
  jobId,
  query,
  moments,
  loss,
}: {
  jobId: number;
  query: ItemQuery;
  moments: readonly Moment[];
  loss: number | null;
}) {
  const [, change] = useAddress();
  const { data: job } = useJob(jobId);
  const zone = job?.timeZone ?? "UTC";
  const at = query.asOf === undefined ? null : Date.parse(query.asOf);
  const set = (moment: number | null) => change(moment === null ? { asOf: null, since: null, rows: null } : asOfAddress(moment), true);
  const choose = (value: string) => {
    if (isRows(value)) change({ rows: value, asOf: null, since: null, show: "all" }, true);
    else set(value === "" ? null : Number(value));
  };
  const step = useRef((_to: StepTo) => {});
  step.current = (to) => {
    const next = momentStep(moments, at, to, loss);
    if (next !== undefined) set(next);
  };
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      const to = KEYS[event.key];
      const target = event.target instanceof HTMLElement ? event.target : null;
      if (!to || event.ctrlKey || event.metaKey || target?.closest("input:not([type=checkbox]), textarea, select, [contenteditable]"))
        return;
      event.preventDefault();
      step.current(to);
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, []);
  const options = useMemo(
    () =>
      [...moments].reverse().map((moment) => (
        <option key={moment.at} value={moment.at}>
          {momentText(new Date(moment.at), zone)}
        </option>
      )),
    [moments, zone],
  );
  const stepping = moments.length > 0 || at !== null;
  const listed = moments.some((moment) => moment.at === at);
  return (
    <fieldset className={styles.asOf} aria-label="As of">
      {stepping && (
        <Button variant="text" aria-label="State before" title="State before ( [ )" onClick={() => step.current("before")}>
          ‹
        </Button>
      )}
      <TextField
        select
        size="small"
        value={query.rows ?? at ?? ""}
        onChange={(event) => choose(event.target.value)}
        slotProps={{ select: { native: true }, htmlInput: { "aria-label": "The list as of" } }}
      >
        <option value="">As it is now</option>
        {ROWS.map((rows) => (
          <option key={rows} value={rows}>
            {ROWS_WORDS[rows]}
          </option>
        ))}
        {at !== null && !listed && <option value={at}>{momentText(new Date(at), zone)}</option>}
        {options}
      </TextField>
      {stepping && (
        <Button variant="text" aria-label="State after" title="State after ( ] )" onClick={() => step.current("after")}>
          ›
        </Button>
      )}
      {stepping && loss !== null && (
        <Button variant="text" title="The last state before the loss ( \ )" onClick={() => step.current("before-loss")}>
          Before the loss
        </Button>
      )}
    </fieldset>
  );
}
