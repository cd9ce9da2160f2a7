"use client";

import type { CSSProperties } from "react";
import type { RecordsPage } from "@/server/records/contract";
import { rowStateText } from "../instruments/words";
import { BytesButton } from "./RowBytes";
import styles from "./records.module.css";
import type { Sight } from "./use-records";
import { useRowsInSight } from "./use-rows-in-sight";

const ROW = 28;

interface GridProps {
  head: RecordsPage;
  rowAt: (index: number) => RecordsPage["rows"][number] | undefined;
  onSight: (sight: Sight) => void;
  onBytes: (place: string) => void;
}

/** The rows: only those in sight exist. */
export function Grid({ head, rowAt, onSight, onBytes }: GridProps) {
  const { scroll, virtual, keepEnd } = useRowsInSight(head.matched, ROW, onSight);
  const widths = head.columns.map(({ name, time }, i) => {
    const longest = head.rows.reduce((most, { cells }) => Math.max(most, cells[i]?.length ?? 0), name.length);
    return time ? 160 : Math.min(420, Math.max(64, 26 + longest * 7.6));
  });
  const across = { gridTemplateColumns: `180px ${widths.map((width) => `${width}px`).join(" ")}` } as CSSProperties;
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reached by the keyboard
    <section ref={scroll} className={styles.scroll} tabIndex={0} aria-label="Rows of the table" {...keepEnd}>
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
              onBytes={onBytes}
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
  onBytes: (place: string) => void;
  style: CSSProperties;
}

function GridRow({ index, columns, row, onBytes, style }: RowProps) {
  const cells = Array.from({ length: columns }, (_, i) => row?.cells[i]);
  return (
    <tr aria-rowindex={index + 2} className={styles.row} data-state={row?.state} data-confidence={row?.confidence} style={style}>
      <td>
        {row && rowStateText(row)}
        {row && <BytesButton from={row.from} at={row.at} onBytes={onBytes} />}
      </td>
      {cells.map((cell, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: columns may share a name
        <td key={i} title={cell ?? undefined} data-unknown={row && cell === null}>
          {cell ?? (row ? "?" : "")}
        </td>
      ))}
    </tr>
  );
}
