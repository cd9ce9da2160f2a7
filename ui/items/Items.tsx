"use client";

import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import type { ItemQuery } from "@/server/items/contract";
import { useAddress } from "../data/use-address";
import { useLoss, usePasses, useTray } from "../data/use-job-data";
import { Empty } from "../instruments/Empty";
import { fittingSpan, type Span } from "../instruments/time-scale";
import { countText } from "../instruments/words";
import { AsOf } from "./AsOf";
import { ColumnMenu } from "./ColumnMenu";
import { listOf, useColumns } from "./columns";
import { Facets } from "./Facets";
import { Inspector } from "./Inspector";
import { ItemList } from "./ItemList";
import styles from "./items.module.css";
import { PictureGrid } from "./PictureGrid";
import { NARROWING, useFacets, useItemQuery, useMoments, usePosition } from "./use-items";
import { useTrayChange } from "./use-tray-change";

/** The working list: one row for each file the client had. */
export function Items({ jobId }: { jobId: number }) {
  const [address, change] = useAddress();
  const query = useItemQuery();
  const { data: facets } = useFacets(jobId, query);
  const { data: passes } = usePasses(jobId);
  const list = listOf(query);
  const { columns, toggle, move, resize } = useColumns(list);
  const item = Number(address.get("item")) || null;
  const opened = query.rows ? Number(address.get("copy")) || null : item;
  const asPictures = address.get("view") === "pictures";
  const position = useOpenedPosition(jobId, query, opened, () => change({ item: null, copy: null, compare: null }));
  useRememberedPlace(jobId, address.toString());
  const loss = useLoss(jobId);
  const fitting = useMemo(() => fittingSpan(facets?.year ?? [], loss), [facets?.year, loss]);
  const [chosenSpan, setChosenSpan] = useSpan();
  const matching = facets?.kind.filter((each) => !query.kind || each.value === query.kind).reduce((sum, each) => sum + each.count, 0);
  const moments = useMoments(jobId, query);
  const filtered = NARROWING.some((name) => query[name]);
  return (
    <div className={styles.page}>
      <div className={styles.tools}>
        <button type="button" className="visually-hidden skip" onClick={intoList}>
          To the list
        </button>
        <Search value={query.q} onChange={(q) => change({ q })} />
        <Switch
          label="Which items"
          value={query.show}
          choices={{ lost: "Lost only", all: "All files" }}
          onChange={(show) => change({ show: show === "all" ? "all" : null }, true)}
        />
        <Switch
          label="Form of the list"
          value={asPictures ? "pictures" : "rows"}
          choices={{ rows: "Rows", pictures: "Pictures" }}
          onChange={(view) =>
            change(
              { view: view === "pictures" ? "pictures" : null, ...(view === "pictures" && !query.kind ? { kind: "pictures" } : {}) },
              true,
            )
          }
        />
        <AsOf jobId={jobId} query={query} moments={moments} loss={loss} />
        {!asPictures && <ColumnMenu list={list} columns={columns} onToggle={toggle} onMove={move} />}
        {filtered && (
          <Button
            variant="text"
            sx={{ whiteSpace: "nowrap", flexShrink: 0 }}
            onClick={() => change(Object.fromEntries(NARROWING.map((name) => [name, null])), true)}
          >
            Show everything
          </Button>
        )}
        <span className={styles.count} role="status">
          {facets && matching !== undefined
            ? `${countText(matching)} of ${countText(facets.total)}${query.rows === "each" ? " versions" : ""}`
            : ""}
        </span>
        <TickAll jobId={jobId} query={query} matching={matching ?? 0} />
      </div>
      <Facets jobId={jobId} query={query} facets={facets} />
      <section className={styles.list} aria-label="Items">
        {facets && matching === 0 ? (
          <NothingFound searched={(passes?.length ?? 0) > 0} filtered={filtered} show={query.show} />
        ) : asPictures ? (
          <PictureGrid key={JSON.stringify(query)} jobId={jobId} query={query} opened={opened} position={position} />
        ) : (
          <ItemList
            key={JSON.stringify(query)}
            jobId={jobId}
            query={query}
            opened={opened}
            position={position}
            columns={columns}
            onResize={resize}
            span={chosenSpan ?? fitting}
            onSpan={setChosenSpan}
            loss={loss}
            moments={moments}
          />
        )}
      </section>
      <aside className={styles.inspector} aria-label="Inspector" data-empty={!item}>
        {item ? (
          <>
            <button type="button" className={styles.back} onClick={() => change({ item: null, copy: null })}>
              Back to the list
            </button>
            <Inspector jobId={jobId} itemId={item} />
          </>
        ) : (
          <Empty title="Choose an item.">Its content and the evidence for it show here. Space opens it large.</Empty>
        )}
      </aside>
    </div>
  );
}

/** Brings the keyboard into the list, to its first row where none is open. */
function intoList(): void {
  const list = document.querySelector<HTMLElement>('[data-list="items"]');
  list?.focus();
  if (list && !list.querySelector('[aria-selected="true"], [data-open="true"]'))
    list.dispatchEvent(new KeyboardEvent("keydown", { key: "ArrowDown", bubbles: true }));
}

/**
 * Where the opened row stands when the list is shown or narrowed anew; one that is not in the list any more is closed. Rows that are
 * opened in the list itself are in it.
 */
function useOpenedPosition(jobId: number, query: ItemQuery, opened: number | null, close: () => void): number | null {
  const [asked, setAsked] = useState<{ query: ItemQuery; row: number | null }>({ query, row: opened });
  if (asked.query !== query) setAsked({ query, row: opened });
  const position = usePosition(jobId, asked.query, asked.row);
  const ended = useRef(close);
  ended.current = close;
  const gone = position === null && asked.row !== null && asked.row === opened;
  useEffect(() => {
    if (gone) ended.current();
  }, [gone]);
  return position ?? null;
}

/** Remembers the list as it is seen, for whoever comes back to it from another stage. */
function useRememberedPlace(jobId: number, search: string): void {
  useEffect(() => sessionStorage.setItem(`compass-items-${jobId}`, search), [jobId, search]);
}

const day = (at: number) => new Date(at).toISOString().slice(0, 10);

/** The stretch of the time axis in sight, kept in the address as two days; null: what fits. */
function useSpan(): [Span | null, (span: Span | null) => void] {
  const [address, change] = useAddress();
  const text = address.get("span");
  const span = useMemo(() => {
    const [start, end] = (text ?? "").split("_").map((part) => Date.parse(part));
    return start !== undefined && end !== undefined && end > start ? { start, end } : null;
  }, [text]);
  // Finer than a day the axis goes on here; the address follows in days.
  const [exact, setExact] = useState<{ text: string | null; span: Span } | null>(null);
  const set = useCallback(
    (next: Span | null) => {
      const written = next ? `${day(next.start)}_${day(Math.max(next.end, next.start + 86_400_000))}` : null;
      setExact(next ? { text: written, span: next } : null);
      change({ span: written });
    },
    [change],
  );
  return [exact && exact.text === text ? exact.span : span, set];
}

function Switch<K extends string>({
  label,
  value,
  choices,
  onChange,
}: {
  label: string;
  value: K;
  choices: Record<K, string>;
  onChange: (value: K) => void;
}) {
  return (
    <ToggleButtonGroup exclusive size="small" value={value} aria-label={label} onChange={(_, next: K | null) => next && onChange(next)}>
      {(Object.keys(choices) as K[]).map((key) => (
        <ToggleButton key={key} value={key} sx={{ py: 0.75, px: 2.5, whiteSpace: "nowrap" }}>
          {choices[key]}
        </ToggleButton>
      ))}
    </ToggleButtonGroup>
  );
}

/** Ticks all that match, or empties the tray. */
function TickAll({ jobId, query, matching }: { jobId: number; query: ItemQuery; matching: number }) {
  const tray = useTrayChange(jobId);
  const { data } = useTray(jobId);
  return (
    <span style={{ display: "flex", gap: 4, whiteSpace: "nowrap" }}>
      {matching > 0 && (
        <Button variant="outlined" disabled={tray.isPending} onClick={() => tray.change({ matching: query, chosen: true })}>
          Choose all
        </Button>
      )}
      {(data?.count ?? 0) > 0 && (
        <Button variant="text" disabled={tray.isPending} onClick={() => tray.change({ everything: true, chosen: false })}>
          Empty tray
        </Button>
      )}
    </span>
  );
}

function Search({ value, onChange }: { value: string; onChange: (value: string) => void }) {
  const [typed, setTyped] = useState(value);
  const sent = useRef(value);
  const notify = useRef(onChange);
  notify.current = onChange;
  // A value that comes back late from here must not overwrite what was typed meanwhile; one from elsewhere must.
  useEffect(() => {
    if (value !== sent.current) setTyped(value);
    sent.current = value;
  }, [value]);
  useEffect(() => {
    if (typed === sent.current) return;
    const timer = setTimeout(() => {
      sent.current = typed;
      notify.current(typed);
    }, 90);
    return () => clearTimeout(timer);
  }, [typed]);
  return (
    <TextField
      size="small"
      type="search"
      placeholder="Words, .docx, *.jpg, “exact phrase”"
      value={typed}
      onChange={(event) => setTyped(event.target.value)}
      onKeyDown={(event) => {
        if (event.key !== "ArrowDown") return;
        event.preventDefault();
        intoList();
      }}
      slotProps={{ htmlInput: { "aria-label": "Search items", "data-search": "items" } }}
      sx={{ width: 270, flex: "0 1 270px", minWidth: 140 }}
    />
  );
}

function NothingFound({ searched, filtered, show }: { searched: boolean; filtered: boolean; show: ItemQuery["show"] }) {
  if (!searched) return <Empty title="Nothing has been searched yet.">Start a pass under Search: what it finds shows here at once.</Empty>;
  if (filtered)
    return <Empty title="No item fits.">Take a word away, choose another kind{show === "lost" ? ", or show all files" : ""}.</Empty>;
  return (
    <Empty title={show === "lost" ? "No lost files were found in what has been read." : "No files were found."}>
      The list of passes under Search says what has been read and what has not.
    </Empty>
  );
}
