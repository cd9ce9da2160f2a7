"use client";

import TextField from "@mui/material/TextField";
import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import { useDeferredValue, useEffect, useState } from "react";
import { useAddress } from "../data/use-address";
import { usePasses } from "../data/use-job-data";
import { Empty } from "../instruments/Empty";
import { Problem, problemText } from "../instruments/Problem";
import { countText, KIND_WORDS } from "../instruments/words";
import { Inspector } from "./Inspector";
import { ItemList } from "./ItemList";
import styles from "./items.module.css";
import { type Filter, useFacets, useItems } from "./use-items";

/** The working list: one row for each file the client had. */
export function Items({ jobId }: { jobId: number }) {
  const [address, change] = useAddress();
  const typed = address.get("q") ?? "";
  const q = useDeferredValue(typed);
  const filter: Filter = { q, show: address.get("show") === "all" ? "all" : "lost", kind: address.get("kind") };
  const items = useItems(jobId, filter);
  const { data: facets } = useFacets(jobId, filter);
  const { data: passes } = usePasses(jobId);
  const opened = Number(address.get("item")) || null;
  return (
    <div className={styles.page}>
      <div className={styles.tools}>
        <Search value={typed} onChange={(value) => change({ q: value })} />
        <ToggleButtonGroup
          exclusive
          size="small"
          value={filter.show}
          aria-label="Which items"
          onChange={(_, value: string | null) => value && change({ show: value === "all" ? "all" : null }, true)}
        >
          <ToggleButton value="lost" sx={{ py: 0.75, px: 2.5 }}>
            Lost only
          </ToggleButton>
          <ToggleButton value="all" sx={{ py: 0.75, px: 2.5 }}>
            All files
          </ToggleButton>
        </ToggleButtonGroup>
        <span className={styles.count} role="status">
          {facets ? `${countText(facets.matching)} of ${countText(facets.total)} items, by name` : ""}
        </span>
      </div>
      <nav className={styles.facets} aria-label="Kinds">
        <h2>Kind</h2>
        <button type="button" className={styles.facet} aria-pressed={filter.kind === null} onClick={() => change({ kind: null }, true)}>
          Any <span>{facets ? countText(facets.kinds.reduce((sum, each) => sum + each.count, 0)) : ""}</span>
        </button>
        {facets?.kinds.map(({ kind, count }) => (
          <button
            key={kind}
            type="button"
            className={styles.facet}
            aria-pressed={filter.kind === kind}
            onClick={() => change({ kind: filter.kind === kind ? null : kind }, true)}
          >
            {KIND_WORDS[kind] ?? kind} <span>{countText(count)}</span>
          </button>
        ))}
      </nav>
      <section className={styles.list} aria-label="Items">
        <Problem>{problemText(items.error)}</Problem>
        {facets && facets.matching === 0 && !items.isFetching ? (
          <NothingFound searched={(passes?.length ?? 0) > 0} filtered={Boolean(q || filter.kind)} show={filter.show} />
        ) : (
          <ItemList jobId={jobId} items={items} matching={facets?.matching ?? 0} opened={opened} />
        )}
      </section>
      <aside className={styles.inspector} aria-label="Inspector">
        {opened ? (
          <Inspector jobId={jobId} itemId={opened} />
        ) : (
          <Empty title="Choose an item.">Its content and the evidence for it show here. Space opens it large.</Empty>
        )}
      </aside>
    </div>
  );
}

function Search({ value, onChange }: { value: string; onChange: (value: string) => void }) {
  const [typed, setTyped] = useState(value);
  useEffect(() => setTyped(value), [value]);
  useEffect(() => {
    if (typed === value) return;
    const timer = setTimeout(() => onChange(typed), 90);
    return () => clearTimeout(timer);
  }, [typed, value, onChange]);
  return (
    <TextField
      size="small"
      type="search"
      placeholder="Words of the name or folder"
      value={typed}
      onChange={(event) => setTyped(event.target.value)}
      slotProps={{ htmlInput: { "aria-label": "Search items", "data-search": "items" } }}
      sx={{ width: 320 }}
    />
  );
}

function NothingFound({ searched, filtered, show }: { searched: boolean; filtered: boolean; show: Filter["show"] }) {
  if (!searched) return <Empty title="Nothing has been searched yet.">Start a pass under Search: what it finds shows here at once.</Empty>;
  if (filtered)
    return <Empty title="No item fits.">Take a word away, choose another kind{show === "lost" ? ", or show all files" : ""}.</Empty>;
  return (
    <Empty title={show === "lost" ? "No lost files were found in what has been read." : "No files were found."}>
      The list of passes under Search says what has been read and what has not.
    </Empty>
  );
}
