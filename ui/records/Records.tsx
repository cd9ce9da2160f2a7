"use client";

import Link from "next/link";
import { useState } from "react";
import type { EntriesPage, RecordsPage } from "@/server/records/contract";
import { useAddress } from "../data/use-address";
import { Problem, problemText } from "../instruments/Problem";
import { countText, ENTRY_WORDS } from "../instruments/words";
import { useItemDetail } from "../items/use-items";
import { Candidates } from "./Candidates";
import { Entries } from "./Entries";
import { Grid } from "./Grid";
import { Profile } from "./Profile";
import { breakable, letterOf } from "./place-title";
import { RowBytes } from "./RowBytes";
import styles from "./records.module.css";
import { SideList } from "./SideList";
import { onlyFrom, Tools } from "./Tools";
import { entriesSearch, type Sight, useEntries, useRecords, type WantedEntries } from "./use-records";
import { workingText } from "./working-text";

const TOP: Sight = { first: 0, last: 40 };
/** What narrows entries of one kind, and means nothing in another. */
const NARROWED = { talk: null, who: null, find: null, since: null, until: null };

/** The rows of a database as what they are (messages, visits and the like) or table by table: those that count and what is left of deleted ones. */
export function Records({ jobId }: { jobId: number }) {
  const [address, change] = useAddress();
  const copyId = Number(address.get("copy"));
  const itemId = Number(address.get("item"));
  const [sight, setSight] = useState(TOP);
  const at = (name: string) => address.get(name) ?? "";
  const wanted: WantedEntries = {
    kind: at("kind"),
    talk: at("talk"),
    who: at("who"),
    find: at("find"),
    only: onlyFrom(address.get("only")),
    since: at("since"),
    until: at("until"),
    with: at("with"),
  };
  const { data: item } = useItemDetail(jobId, itemId || null);
  const asked = address.get("view") === "candidates" ? "candidates" : address.has("table") ? "tables" : "entries";
  const entries = useEntries(
    copyId,
    asked === "entries" ? wanted : { ...wanted, ...EMPTY, with: wanted.with },
    asked === "entries" ? sight : TOP,
  );
  const tables = useRecords(
    { copyId, table: at("table"), find: wanted.find, only: onlyFrom(address.get("only")) },
    asked === "entries" ? TOP : sight,
  );
  // A database that holds nothing the bench knows is shown by its tables.
  const view = asked === "entries" && entries.head?.kinds.length === 0 && wanted.with === "" ? "tables" : asked;
  const show = (changes: Readonly<Record<string, string | null>>) => {
    setSight(TOP);
    change({ ...NARROWED, view: null, table: null, kind: null, ...changes }, true);
  };
  const beside = tables.head?.files.filter(({ from }) => from !== "main") ?? [];
  const notes = wanted.with === "" ? (tables.head?.notes ?? []) : (entries.head?.notes ?? []);
  return (
    <div className={styles.page}>
      <div className={styles.side}>
        <h1>{item?.name ?? "Records"}</h1>
        <p className={styles.where}>
          {item && (
            <>
              {item.volumeLabel} {breakable(item.folder)}{" "}
            </>
          )}
          <Link href={`/jobs/${jobId}/items?item=${itemId}`}>Back to the item</Link>
        </p>
        <p className={styles.where}>
          <button
            type="button"
            aria-pressed={view === "candidates"}
            onClick={() => show({ view: view === "candidates" ? null : "candidates" })}
          >
            {view === "candidates" ? "Show its rows" : "Databases of this kind"}
          </button>
          {wanted.with !== "" && (
            <button type="button" onClick={() => show({ with: null })}>
              Only this database
            </button>
          )}
        </p>
        {entries.head && <Together page={entries.head} />}
        {entries.head && <Kinds page={entries.head} shown={view === "entries"} onChoose={(kind) => show({ kind })} />}
        {entries.head && view === "entries" && (
          <Narrowing page={entries.head} wanted={wanted} onChange={(changes) => change(changes, true)} />
        )}
        {tables.head && wanted.with === "" && (
          <Tables head={tables.head} chosen={view === "tables" ? tables.head.table : null} onChoose={(table) => show({ table })} />
        )}
        {beside.length > 0 && <p className={styles.note}>Read with it: {beside.map(({ name }) => name).join(", ")}.</p>}
        {notes.map((note) => (
          <p key={note} className={styles.note}>
            {note}
          </p>
        ))}
        {item && item.folder !== "" && <Profile key={item.id} jobId={jobId} homeId={item.homeId} folder={item.folder} />}
        {entries.head && <Why page={entries.head} />}
      </div>
      <RowBytes files={tables.head?.files ?? []} place={address.get("bytes")} onClose={() => change({ bytes: null })} />
      {view === "candidates" && (
        <section className={styles.rows} aria-label="Databases of this kind">
          <Candidates jobId={jobId} copyId={copyId} onTogether={(copies) => show({ with: copies.join(",") })} />
        </section>
      )}
      {view === "entries" && (
        <Entries
          jobId={jobId}
          copyId={copyId}
          wanted={wanted}
          {...entries}
          onSight={setSight}
          onChange={(changes) => change(changes)}
          onBytes={(bytes) => change({ bytes }, true)}
          exported={(form) => `/api/copies/${copyId}/records/export/${form}?${new URLSearchParams(entriesSearch(wanted))}`}
        />
      )}
      {view === "tables" && (
        <section className={styles.rows} aria-label="Rows">
          <Tools label="Find in this table" find={wanted.find} only={onlyFrom(address.get("only"))} onChange={(changes) => change(changes)}>
            {tables.head && (
              <span className={styles.count} role="status">
                {countText(tables.head.matched)} {tables.head.matched === 1 ? "row" : "rows"}
              </span>
            )}
            {tables.head && tables.head.matched > 0 && (
              <a
                className={styles.save}
                href={`/api/copies/${copyId}/records/csv?${new URLSearchParams({ table: at("table"), find: wanted.find, only: wanted.only })}`}
              >
                Save as CSV
              </a>
            )}
          </Tools>
          <Problem>{problemText(tables.error)}</Problem>
          {!tables.head && !tables.error && <p className={styles.note}>Reading the database …</p>}
          {tables.head && (tables.head.reading !== null || entries.head?.working) && (
            <p className={styles.note} aria-live="off">
              {tables.head.reading !== null
                ? `${workingText({ what: "rows", done: tables.head.reading })} Until all are, they stand as they are found.`
                : workingText(entries.head?.working ?? { what: "entries", done: 0 })}
            </p>
          )}
          {tables.head && (
            <Grid
              key={tables.head.table}
              head={tables.head}
              rowAt={tables.rowAt}
              onSight={setSight}
              onBytes={(bytes) => change({ bytes }, true)}
            />
          )}
        </section>
      )}
    </div>
  );
}

const EMPTY: Omit<WantedEntries, "with"> = { kind: "", talk: "", who: "", find: "", only: "", since: "", until: "" };

function Together({ page }: { page: EntriesPage }) {
  if (page.together.length === 0) return null;
  return (
    <div className={styles.together}>
      <h2>Read as one</h2>
      <ol aria-label="Read as one">
        {page.together.map(({ copyId, where }, index) => (
          <li key={copyId}>
            <b>{letterOf(index)}</b> <span>{breakable(where || "/")}</span>
          </li>
        ))}
      </ol>
    </div>
  );
}

function Kinds({ page, shown, onChoose }: { page: EntriesPage; shown: boolean; onChoose: (kind: string) => void }) {
  return (
    <SideList
      label="What it holds"
      rows={page.kinds.map(({ kind, entries, deleted }) => ({
        key: kind,
        words: ENTRY_WORDS[kind].many,
        entries,
        deleted,
        chosen: shown && kind === page.kind,
      }))}
      onChoose={onChoose}
    />
  );
}

interface NarrowingProps {
  page: EntriesPage;
  wanted: WantedEntries;
  onChange: (changes: Readonly<Record<string, string | null>>) => void;
}

/** Conversations, and who wrote or which sites were visited. A second press takes the choice back. */
function Narrowing({ page, wanted, onChange }: NarrowingProps) {
  const toggled = (now: string, key: string) => (now === key ? null : key);
  return (
    <>
      {page.kind === "messages" && (
        <SideList
          label="Conversations"
          rows={page.talks.map(({ key, label, entries, deleted }) => ({
            key,
            words: label,
            entries,
            deleted,
            chosen: wanted.talk === key,
          }))}
          onChoose={(talk) => onChange({ talk: toggled(wanted.talk, talk) })}
        />
      )}
      {page.kind === "messages" && page.moreTalks > 0 && (
        <p className={styles.note}>{countText(page.moreTalks)} smaller conversations are not listed; searching finds their messages.</p>
      )}
      {(page.kind === "messages" || page.kind === "visits") && (
        <SideList
          label={page.kind === "visits" ? "Sites" : "Persons"}
          rows={page.persons.map(({ name, entries }) => ({ key: name, words: name, entries, deleted: 0, chosen: wanted.who === name }))}
          onChoose={(who) => onChange({ who: toggled(wanted.who, who) })}
        />
      )}
    </>
  );
}

function Tables({ head, chosen, onChoose }: { head: RecordsPage; chosen: string | null; onChoose: (table: string) => void }) {
  return (
    <SideList
      label="Tables"
      rows={head.tables.map(({ name, live, deleted }) => ({ key: name, words: name, entries: live, deleted, chosen: name === chosen }))}
      onChoose={onChoose}
    />
  );
}

/** By what tables were taken for messages, visits and the like: nobody has to believe it. */
function Why({ page }: { page: EntriesPage }) {
  if (page.why.length === 0) return null;
  return (
    <details className={styles.why}>
      <summary>Why it is read so</summary>
      {page.why.map(({ table, kind, why }) => (
        <p key={table}>
          <b>{table}</b>, {ENTRY_WORDS[kind].many.toLowerCase()}: {why.join("; ")}.
        </p>
      ))}
    </details>
  );
}
