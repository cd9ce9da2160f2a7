"use client";

import TextField from "@mui/material/TextField";
import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import { useVirtualizer } from "@tanstack/react-virtual";
import Link from "next/link";
import { type CSSProperties, useRef, useState } from "react";
import type { RecordsPage } from "@/server/records/contract";
import { useAddress } from "../data/use-address";
import { useTyped } from "../data/use-typed";
import { Problem, problemText } from "../instruments/Problem";
import { countText } from "../instruments/words";
import { useItemDetail } from "../items/use-items";
import { Candidates } from "./Candidates";
import styles from "./records.module.css";
import { useRecords, type Wanted } from "./use-records";

const ROW = 28;
const CONFIDENCE: Readonly<Record<"whole" | "part" | "guess", string>> = {
  whole: "deleted, all of it stands",
  part: "deleted, not all of it stands",
  guess: "deleted, partly a guess",
};
function stateWords({ state, confidence, uncommitted }: RecordsPage["rows"][number]): string {
  if (state === "live") return confidence === "whole" ? "" : "not all of it stands";
  return uncommitted ? "written, never committed" : CONFIDENCE[confidence];
}

const FILES = { main: "the database", log: "its log", journal: "its journal" } as const;

const ONLY: readonly (readonly [Wanted["only"], string])[] = [
  ["all", "All"],
  ["live", "Live"],
  ["deleted", "Deleted"],
];

/** The rows of a database, table by table: those that count and what is left of deleted ones, each marked by fill and word. */
export function Records({ jobId }: { jobId: number }) {
  const [address, change] = useAddress();
  const copyId = Number(address.get("copy"));
  const itemId = Number(address.get("item"));
  const only = ONLY.find(([id]) => id === address.get("only"))?.[0] ?? "all";
  const wanted: Wanted = { copyId, table: Number(address.get("table") ?? 0), find: address.get("find") ?? "", only };
  const comparing = address.get("view") === "candidates";
  const [sight, setSight] = useState({ first: 0, last: 40 });
  const { head, error, rowAt } = useRecords(wanted, sight.first, sight.last);
  const { data: item } = useItemDetail(jobId, itemId || null);
  return (
    <div className={styles.page}>
      <div className={styles.side}>
        <h1>{item?.name ?? "Records"}</h1>
        <p className={styles.where}>
          {item && (
            <>
              {item.volumeLabel} {item.folder}{" "}
            </>
          )}
          <Link href={`/jobs/${jobId}/items?item=${itemId}`}>Back to the item</Link>
        </p>
        <p className={styles.where}>
          <button type="button" aria-pressed={comparing} onClick={() => change({ view: comparing ? null : "candidates" }, true)}>
            {comparing ? "Show its rows" : "Databases of this kind"}
          </button>
        </p>
        {head && (
          <Tables
            head={head}
            chosen={comparing ? -1 : wanted.table}
            onChoose={(table) => change({ table: String(table), view: null }, true)}
          />
        )}
        {head && head.beside.length > 0 && <p className={styles.note}>Read with it: {head.beside.join(", ")}.</p>}
        {head?.notes.map((note) => (
          <p key={note} className={styles.note}>
            {note}
          </p>
        ))}
      </div>
      {comparing ? (
        <section className={styles.rows} aria-label="Databases of this kind">
          <Candidates jobId={jobId} copyId={copyId} />
        </section>
      ) : (
        <section className={styles.rows} aria-label="Rows">
          <div className={styles.tools}>
            <FindField value={wanted.find} onFind={(find) => change({ find: find || null })} />
            <ToggleButtonGroup
              size="small"
              exclusive
              value={only}
              aria-label="Which rows"
              onChange={(_, value: string | null) => value && change({ only: value === "all" ? null : value })}
            >
              {ONLY.map(([id, words]) => (
                <ToggleButton key={id} value={id} sx={{ py: 0.25, px: 1.5 }}>
                  {words}
                </ToggleButton>
              ))}
            </ToggleButtonGroup>
            {head && (
              <span className={styles.count} role="status">
                {countText(head.matched)} {head.matched === 1 ? "row" : "rows"}
              </span>
            )}
            {head && head.matched > 0 && (
              <a
                className={styles.save}
                href={`/api/copies/${copyId}/records/csv?${new URLSearchParams({ table: String(wanted.table), find: wanted.find, only })}`}
              >
                Save as CSV
              </a>
            )}
          </div>
          <Problem>{problemText(error)}</Problem>
          {!head && !error && <p className={styles.note}>Reading the database …</p>}
          {head && <Grid key={`${wanted.table}`} head={head} rowAt={rowAt} onSight={setSight} />}
        </section>
      )}
    </div>
  );
}

function Tables({ head, chosen, onChoose }: { head: RecordsPage; chosen: number; onChoose: (table: number) => void }) {
  return (
    <ul className={styles.tables} aria-label="Tables">
      {head.tables.map(({ name, live, deleted }, index) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: tables whose name is gone are known by their place
        <li key={index}>
          <button type="button" aria-pressed={index === chosen} onClick={() => onChoose(index)}>
            <span>{name}</span>
            <span className={styles.live}>{countText(live)}</span>
            <span className={styles.gone}>{deleted > 0 ? `+ ${countText(deleted)} deleted` : ""}</span>
          </button>
        </li>
      ))}
    </ul>
  );
}

function FindField({ value, onFind }: { value: string; onFind: (words: string) => void }) {
  const [typed, setTyped] = useTyped(value, onFind);
  return (
    <TextField
      size="small"
      placeholder="Find in this table"
      value={typed}
      onChange={(event) => setTyped(event.target.value)}
      slotProps={{ htmlInput: { "aria-label": "Find in this table" } }}
      sx={{ width: 300 }}
    />
  );
}

interface GridProps {
  head: RecordsPage;
  rowAt: (index: number) => RecordsPage["rows"][number] | undefined;
  onSight: (sight: { first: number; last: number }) => void;
}

/** The rows: only those in sight exist. */
function Grid({ head, rowAt, onSight }: GridProps) {
  const scroll = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: head.matched,
    getScrollElement: () => scroll.current,
    estimateSize: () => ROW,
    overscan: 10,
    onChange: ({ range }) => range && onSight({ first: range.startIndex, last: range.endIndex }),
  });
  const widths = head.columns.map(({ name, time }, i) => {
    const longest = head.rows.reduce((most, { cells }) => Math.max(most, cells[i]?.length ?? 0), name.length);
    return time ? 160 : Math.min(420, Math.max(64, 26 + longest * 7.6));
  });
  const across = { gridTemplateColumns: `180px ${widths.map((width) => `${width}px`).join(" ")}` } as CSSProperties;
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reached by the keyboard
    <section ref={scroll} className={styles.scroll} tabIndex={0} aria-label="Rows of the table">
      <table className={styles.table} aria-rowcount={head.matched + 1}>
        <thead>
          <tr className={styles.head} style={across}>
            <th scope="col">State</th>
            {head.columns.map(({ name, time }, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: columns may share a name
              <th key={i} scope="col" title={time ? `${name}: ${time}, shown as UTC` : name}>
                {name}
                {time && <small>UTC</small>}
              </th>
            ))}
          </tr>
        </thead>
        <tbody style={{ height: virtual.getTotalSize() }}>
          {virtual.getVirtualItems().map(({ index, start }) => (
            <GridRow
              key={index}
              index={index}
              columns={head.columns.length}
              row={rowAt(index)}
              style={{ ...across, transform: `translateY(${start}px)` }}
            />
          ))}
        </tbody>
      </table>
    </section>
  );
}

interface RowProps {
  index: number;
  columns: number;
  /** Not given: it is being fetched. */
  row: RecordsPage["rows"][number] | undefined;
  style: CSSProperties;
}

function GridRow({ index, columns, row, style }: RowProps) {
  const cells = Array.from({ length: columns }, (_, i) => row?.cells[i]);
  return (
    <tr aria-rowindex={index + 2} className={styles.row} data-state={row?.state} data-confidence={row?.confidence} style={style}>
      <td title={row && `In ${FILES[row.from]}, byte ${row.at.toLocaleString("en")}`}>{row && stateWords(row)}</td>
      {cells.map((cell, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: columns may share a name
        <td key={i} title={cell ?? undefined} data-unknown={row && cell === null}>
          {cell ?? (row ? "?" : "")}
        </td>
      ))}
    </tr>
  );
}
