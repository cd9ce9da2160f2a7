"use client";

import { useState } from "react";
import type { Facets as FacetCounts, ItemQuery } from "@/server/items/contract";
import { useAddress } from "../data/use-address";
import { PlaceGlyph } from "../instruments/PlaceMark";
import { CONDITION_WORDS, countText, KIND_WORDS, PLACE_WORDS } from "../instruments/words";
import styles from "./items.module.css";

type Name = "kind" | "place" | "condition" | "year" | "size";

const FACETS: { name: Name; title: string; words: (value: string) => string; few: number }[] = [
  { name: "kind", title: "Kind", words: (value) => KIND_WORDS[value] ?? value, few: 10 },
  { name: "place", title: "Place", words: (value) => PLACE_WORDS[value] ?? value, few: 9 },
  { name: "condition", title: "Condition", words: (value) => CONDITION_WORDS[value] ?? value, few: 4 },
  { name: "year", title: "Changed in", words: (value) => (value === "none" ? "no date" : value), few: 6 },
  { name: "size", title: "Size", words: (value) => value, few: 5 },
];

/** The ways of narrowing the list, each choice with how many items it would leave. */
export function Facets({ query, facets }: { query: ItemQuery; facets: FacetCounts | undefined }) {
  return (
    <nav className={styles.facets} aria-label="Narrow the list">
      {FACETS.slice(0, 3).map((facet) => (
        <Section key={facet.name} {...facet} chosen={query[facet.name]} counts={facets?.[facet.name] ?? []} />
      ))}
      {(query.originals || (facets?.place ?? []).some(({ value }) => value === "raw")) && <Originals only={query.originals === "yes"} />}
      <Folders folder={query.folder ?? ""} counts={facets?.folder ?? []} />
      {FACETS.slice(3).map((facet) => (
        <Section key={facet.name} {...facet} chosen={query[facet.name]} counts={ordered(facet.name, facets?.[facet.name] ?? [])} />
      ))}
    </nav>
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

type Counts = FacetCounts["kind"];

const SIZE_ORDER = ["empty", "to 10 KiB", "to 1 MiB", "to 100 MiB", "larger"];
function ordered(name: Name, counts: Counts): Counts {
  if (name === "year") return [...counts].sort((a, b) => b.value.localeCompare(a.value));
  return [...counts].sort((a, b) => SIZE_ORDER.indexOf(a.value) - SIZE_ORDER.indexOf(b.value));
}

interface SectionProps {
  name: Name;
  title: string;
  words: (value: string) => string;
  few: number;
  chosen: string | undefined;
  counts: Counts;
}

function Section({ name, title, words, few, chosen, counts }: SectionProps) {
  const [, change] = useAddress();
  const [all, setAll] = useState(false);
  if (counts.length === 0 && !chosen) return null;
  const shown = all ? counts : counts.slice(0, few);
  const missing = chosen && !counts.some((each) => each.value === chosen) ? [{ value: chosen, count: 0 }] : [];
  return (
    <section aria-label={title}>
      <h2>{title}</h2>
      {[...missing, ...shown].map(({ value, count }) => (
        <button
          key={value}
          type="button"
          className={styles.facet}
          aria-pressed={chosen === value}
          onClick={() => change({ [name]: chosen === value ? null : value }, true)}
        >
          {name === "place" && <PlaceGlyph mark={{ at: null, place: value as never, condition: "whole", survival: 1, live: false }} />}
          <b>{words(value)}</b>
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
