"use client";

import { type KeyboardEvent, type ReactNode, useRef } from "react";
import type { ItemQuery, Sort } from "@/server/items/contract";
import { useAddress } from "../data/use-address";
import type { Span } from "../instruments/time-scale";
import { COLUMN_FACTS, type Column, type Columns } from "./columns";
import styles from "./items.module.css";
import type { Moment } from "./moments";
import { RibbonAxis } from "./Ribbon";

interface Props {
  query: ItemQuery;
  columns: Columns;
  template: string;
  onResize: (column: Column, width: number) => void;
  span: Span;
  onSpan: (span: Span | null) => void;
  loss: number | null;
  moments: readonly Moment[];
  asOf: number | null;
}

/** The head of the list: each word sorts, each edge sizes; the ribbon's head is its time axis. */
export function ListHead({ query, columns, template, onResize, span, onSpan, loss, moments, asOf }: Props) {
  const aria = (sort: Sort | undefined) => (sort && sort === query.sort ? (query.order === "up" ? "ascending" : "descending") : undefined);
  return (
    <div className={styles.head} role="row" aria-rowindex={1} style={{ gridTemplateColumns: template }}>
      <span role="columnheader">
        <span className="visually-hidden">Chosen</span>
      </span>
      <span role="columnheader" aria-sort={aria("name")}>
        <SortButton query={query} sort="name">
          Item
        </SortButton>
      </span>
      {columns.shown.map((column) => {
        const { sort, right, ...facts } = COLUMN_FACTS[column];
        const words = column === "condition" ? conditionWords(query, facts.words) : facts.words;
        return (
          <span
            key={column}
            role="columnheader"
            aria-sort={aria(sort)}
            className={right ? styles.right : styles.cell}
            style={{ position: "relative" }}
          >
            {column === "ribbon" ? (
              <RibbonAxis span={span} width={columns.widths.ribbon} loss={loss} moments={moments} asOf={asOf} onChange={onSpan} />
            ) : sort ? (
              <SortButton query={query} sort={sort}>
                {words}
              </SortButton>
            ) : (
              words
            )}
            <Sizer words={words} width={columns.widths[column]} onResize={(width) => onResize(column, width)} />
          </span>
        );
      })}
    </div>
  );
}

/** Of which copy a row says the condition. */
const conditionWords = ({ asOf, rows }: ItemQuery, words: string) => (rows ? "Version" : asOf ? "Copy of then" : words);

function SortButton({ query, sort, children }: { query: ItemQuery; sort: Sort; children: ReactNode }) {
  const [, change] = useAddress();
  const present = query.sort === sort;
  const order = present && query.order === "up" ? "down" : "up";
  return (
    <button
      type="button"
      className={styles.sort}
      data-present={present}
      onClick={() => change({ sort: sort === "name" && order === "up" ? null : sort, order: order === "down" ? "down" : null }, true)}
    >
      {children}
      {present && (
        <svg width="7" height="6" viewBox="0 0 7 6" aria-hidden="true">
          <path d={query.order === "up" ? "M3.5 0 7 6H0z" : "M3.5 6 0 0h7z"} fill="currentColor" />
        </svg>
      )}
    </button>
  );
}

/** The left edge of a column: dragging it, or the arrow keys on it, change the width. */
function Sizer({ words, width, onResize }: { words: string; width: number; onResize: (width: number) => void }) {
  const drag = useRef<{ x: number; width: number } | null>(null);
  const onKey = (event: KeyboardEvent) => {
    const step = event.key === "ArrowLeft" ? 8 : event.key === "ArrowRight" ? -8 : 0;
    if (step === 0) return;
    event.preventDefault();
    event.stopPropagation();
    onResize(width + step);
  };
  return (
    <span
      role="separator"
      aria-orientation="vertical"
      aria-label={`Width of ${words}`}
      aria-valuenow={width}
      tabIndex={0}
      className={styles.sizer}
      onKeyDown={onKey}
      onPointerDown={(event) => {
        event.currentTarget.setPointerCapture(event.pointerId);
        drag.current = { x: event.clientX, width };
      }}
      onPointerMove={(event) => drag.current && onResize(drag.current.width + drag.current.x - event.clientX)}
      onPointerUp={() => {
        drag.current = null;
      }}
    />
  );
}
