"use client";

import { useQuery } from "@tanstack/react-query";
import Link from "next/link";
import { useState } from "react";
import { fits } from "@/server/plan/contract";
import { read } from "../data/request";
import { keys } from "../data/use-job-data";
import { PlaceGlyph } from "../instruments/PlaceMark";
import { Problem, problemText } from "../instruments/Problem";
import { dateText, PLACE_WORDS } from "../instruments/words";
import styles from "./plan.module.css";

const SHOWN = 4;

/** What was found that fits best what the client remembers, each with the reasons. */
export function Fits({ jobId, zone }: { jobId: number; zone: string }) {
  const [all, setAll] = useState(false);
  const { data, error } = useQuery({ queryKey: keys.of(jobId, "fits"), queryFn: () => read(`/api/jobs/${jobId}/fits`, fits) });
  if (!data) return <Problem>{problemText(error)}</Problem>;
  if (data.length === 0) return null;
  return (
    <section aria-labelledby="fits-title" className={styles.fits}>
      <h2 id="fits-title">By what the client remembers</h2>
      <ol>
        {data.slice(0, all ? data.length : SHOWN).map((fit) => (
          <li key={fit.itemId}>
            <PlaceGlyph
              mark={{
                at: null,
                place: fit.places.find((place) => !place.endsWith("-record")) ?? fit.places[0] ?? "file-record",
                condition: fit.condition as "whole",
                survival: 1,
                live: false,
              }}
            />
            <div>
              <Link
                href={`/jobs/${jobId}/items?item=${fit.itemId}${fit.copyId === null ? "" : `&copy=${fit.copyId}`}&show=all&q=${encodeURIComponent(`"${fit.name}"`)}`}
              >
                {fit.name}
              </Link>
              <span>{fit.folder.slice(1)}</span>
              <p>{sentenceOf(fit.reasons)}</p>
            </div>
            <span title={fit.places.map((place) => PLACE_WORDS[place]).join(", ")}>{dateText(fit.modified, zone)}</span>
          </li>
        ))}
      </ol>
      {data.length > SHOWN && (
        <button type="button" className={styles.add} onClick={() => setAll(!all)}>
          {all ? "Only the best" : `${data.length - SHOWN} more`}
        </button>
      )}
    </section>
  );
}

function sentenceOf(reasons: readonly string[]): string {
  const text = reasons.join("; ");
  return text && `${text.charAt(0).toUpperCase()}${text.slice(1)}.`;
}
