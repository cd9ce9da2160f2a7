"use client";

import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { type Facets as FacetCounts, type ItemQuery, type Since, setsOf } from "@/server/items/contract";
import { write } from "../data/request";
import { useAddress } from "../data/use-address";
import { useTray } from "../data/use-job-data";
import { PlaceGlyph } from "../instruments/PlaceMark";
import { Problem, problemText } from "../instruments/Problem";
import { AS_OF_WORDS, CONDITION_WORDS, countText, KIND_WORDS, PLACE_WORDS } from "../instruments/words";
import styles from "./items.module.css";
import { useSinceFacet } from "./use-items";

type Name =
  | "kind"
  | "place"
  | "condition"
  | "year"
  | "size"
  | "standing"
  | "deleted"
  | "created"
  | "type"
  | "since"
  | "set"
  | "user"
  | "home"
  | "volume"
  | "source";

interface Facet {
  name: Name;
  title: string;
  words: (value: string) => string;
  few: number;
  /** Shown only where there is something to choose from. */
  several?: boolean;
  /** More than one can be chosen. */
  together?: boolean;
}

const yearWords = (value: string) => (value === "none" ? "no date" : value);
const FACETS: Facet[] = [
  { name: "kind", title: "Kind", words: (value) => KIND_WORDS[value] ?? value, few: 10 },
  { name: "place", title: "Place", words: (value) => PLACE_WORDS[value] ?? value, few: 9 },
  { name: "since", title: "Since then", words: (value) => AS_OF_WORDS[value as Since] ?? value, few: 5, several: true },
  { name: "condition", title: "Condition", words: (value) => CONDITION_WORDS[value] ?? value, few: 5 },
  { name: "standing", title: "Best copy", words: (value) => (value === "live" ? "live file" : "deleted file"), few: 2, several: true },
  { name: "year", title: "Changed in", words: yearWords, few: 6 },
  { name: "deleted", title: "Deleted in", words: yearWords, few: 4, several: true },
  { name: "created", title: "Created in", words: yearWords, few: 4, several: true },
  { name: "size", title: "Size", words: (value) => value, few: 5 },
  { name: "type", title: "Type", words: (value) => (value === "none" ? "no extension" : `.${value}`), few: 6, several: true },
  { name: "user", title: "User", words: (value) => value, few: 6, several: true },
  { name: "set", title: "Backup sets", words: () => "a set that is not there", few: 6, several: true, together: true },
  { name: "home", title: "Client’s drive", words: (value) => value, few: 6, several: true },
  { name: "volume", title: "Volume", words: (value) => value, few: 6, several: true },
  { name: "source", title: "Source", words: (value) => value, few: 6, several: true },
];
/** Those that stand above the folders. */
const FIRST = 4;

/** Of a list of versions it is each of them, not the best copy, that is live or deleted. */
const titleOf = ({ name, title }: Facet, { rows }: ItemQuery) => (name === "standing" && rows ? "Live or deleted" : title);

/** The ways of narrowing the list, each choice with how many items it would leave. */
export function Facets({ jobId, query, facets }: { jobId: number; query: ItemQuery; facets: FacetCounts | undefined }) {
  const { data } = useSinceFacet(jobId, query);
  const became = query.asOf === undefined ? [] : (data?.since ?? []);
  const countsOf = (name: Name) => (name === "since" ? became : (facets?.[name] ?? []));
  const isCounted = (name: Name) => (name === "since" ? data : facets) !== undefined;
  return (
    <nav className={styles.facets} aria-label="Narrow the list">
      {FACETS.slice(0, FIRST).map((facet) => (
        <Section
          key={facet.name}
          {...facet}
          chosen={chosenOf(query, facet.name)}
          counts={countsOf(facet.name)}
          isCounted={isCounted(facet.name)}
        />
      ))}
      <CheckAll jobId={jobId} query={query} />
      {(query.originals || (facets?.place ?? []).some(({ value }) => value === "raw")) && <Originals only={query.originals === "yes"} />}
      <Folders folder={query.folder ?? ""} counts={facets?.folder ?? []} />
      {FACETS.slice(FIRST).map((facet) => (
        <Section
          key={facet.name}
          {...facet}
          title={titleOf(facet, query)}
          chosen={chosenOf(query, facet.name)}
          counts={ordered(facet.name, countsOf(facet.name))}
          isCounted={isCounted(facet.name)}
        />
      ))}
    </nav>
  );
}

function chosenOf(query: ItemQuery, name: Name): string[] {
  if (name === "set") return setsOf(query.set);
  return query[name] === undefined ? [] : [String(query[name])];
}

/** Has the contents of all that match looked at: live files are not, until somebody asks. */
function CheckAll({ jobId, query }: { jobId: number; query: ItemQuery }) {
  const { data: tray } = useTray(jobId);
  const { sort: _, order: __, limit: ___, after: ____, ...filter } = query;
  const check = useMutation({ mutationFn: () => write("POST", `/api/jobs/${jobId}/check`, filter) });
  const waiting = tray?.checking ?? 0;
  return (
    <section aria-label="Check">
      {waiting > 0 ? (
        <p className={styles.checking} role="status">
          checking {countText(waiting)} …
        </p>
      ) : (
        <button type="button" className={styles.more} disabled={check.isPending} onClick={() => check.mutate()}>
          check whether these open
        </button>
      )}
      <Problem>{problemText(check.error)}</Problem>
    </section>
  );
}

/** Raw content brings up what stands inside other files as well: small pictures in pictures, pictures in documents. */
function Originals({ only }: { only: boolean }) {
  const [, change] = useAddress();
  return (
    <section aria-label="Originals">
      <button type="button" className={styles.facet} aria-pressed={only} onClick={() => change({ originals: only ? null : "yes" }, true)}>
        <b>Originals only</b>
      </button>
    </section>
  );
}

type Counts = readonly { value: string; count: number; words?: string }[];

const SIZE_ORDER = ["empty", "to 10 KiB", "to 1 MiB", "to 100 MiB", "larger"];
function ordered(name: Name, counts: Counts): Counts {
  if (name === "year" || name === "deleted" || name === "created")
    return [...counts].sort((a, b) => Number(a.value === "none") - Number(b.value === "none") || b.value.localeCompare(a.value));
  if (name !== "size") return counts;
  return [...counts].sort((a, b) => SIZE_ORDER.indexOf(a.value) - SIZE_ORDER.indexOf(b.value));
}

interface SectionProps extends Facet {
  chosen: readonly string[];
  counts: Counts;
  isCounted: boolean;
}

function Section({ name, title, words, few, several = false, together = false, chosen, counts, isCounted }: SectionProps) {
  const [, change] = useAddress();
  const [all, setAll] = useState(false);
  if (counts.length <= (several ? 1 : 0) && chosen.length === 0) return null;
  const shown = counts.filter(({ value }, index) => all || index < few || chosen.includes(value));
  const missing = chosen.filter((each) => !counts.some(({ value }) => value === each)).map((value) => ({ value, count: 0 }));
  const toggle = (value: string) => {
    const others = together ? chosen.filter((each) => each !== value) : [];
    change({ [name]: [...others, ...(chosen.includes(value) ? [] : [value])].sort().join(",") }, true);
  };
  return (
    <section aria-label={title}>
      <h2>{title}</h2>
      {[...missing, ...shown].map(({ value, count, words: called }: Counts[number]) => (
        <button key={value} type="button" className={styles.facet} aria-pressed={chosen.includes(value)} onClick={() => toggle(value)}>
          {together && <Tick on={chosen.includes(value)} />}
          {name === "place" && <PlaceGlyph mark={{ at: null, place: value as never, condition: "whole", survival: 1, live: false }} />}
          <b className={together ? styles.full : undefined}>{called ?? words(value)}</b>
          <span>{isCounted && countText(count)}</span>
        </button>
      ))}
      {counts.length > (all ? few : shown.length) && (
        <button type="button" className={styles.more} onClick={() => setAll(!all)}>
          {all ? "fewer" : `${counts.length - shown.length} more`}
        </button>
      )}
    </section>
  );
}

/** A box that says more than one can be chosen. */
const Tick = ({ on }: { on: boolean }) => (
  <svg className={styles.tickBox} viewBox="0 0 12 12" aria-hidden="true">
    <rect x="1" y="1" width="10" height="10" rx="2" />
    {on && <path d="M3.2 6.2 5.2 8.2 8.8 4" />}
  </svg>
);

/** The folders below the chosen one, and the way back up. */
function Folders({ folder, counts }: { folder: string; counts: Counts }) {
  const [, change] = useAddress();
  const [all, setAll] = useState(false);
  const parts = folder.split("/").filter(Boolean);
  const few = 8;
  if (counts.length === 0 && parts.length === 0) return null;
  const go = (path: string | null) => change({ folder: path }, true);
  return (
    <section aria-label="Folder">
      <h2>Folder</h2>
      {parts.length > 0 && (
        <button type="button" className={styles.facet} onClick={() => go(null)}>
          <b>All folders</b>
        </button>
      )}
      {parts.map((part, index) => {
        const path = `/${parts.slice(0, index + 1).join("/")}`;
        const present = index === parts.length - 1;
        return (
          <button
            key={path}
            type="button"
            className={styles.facet}
            aria-pressed={present}
            style={{ paddingLeft: 14 + 8 * index }}
            onClick={() => go(present ? (index > 0 ? `/${parts.slice(0, index).join("/")}` : null) : path)}
          >
            <b>{part === "?" ? "unknown parents" : part}</b>
          </button>
        );
      })}
      {(all ? counts : counts.slice(0, few)).map(({ value, count }) => (
        <button
          key={value}
          type="button"
          className={styles.facet}
          style={{ paddingLeft: 14 + 8 * parts.length }}
          onClick={() => go(`${folder}/${value}`)}
        >
          <b>{value === "?" ? "unknown parents" : value}</b>
          <span>{countText(count)}</span>
        </button>
      ))}
      {counts.length > few && (
        <button type="button" className={styles.more} onClick={() => setAll(!all)}>
          {all ? "fewer" : `${counts.length - few} more`}
        </button>
      )}
    </section>
  );
}
