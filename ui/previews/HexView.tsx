"use client";

import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { PlacedRun } from "@/server/items/contract";
import { outline } from "@/server/previews/contract";
import { read } from "../data/request";
import { Problem, problemText } from "../instruments/Problem";
import { offsetText } from "../instruments/words";
import styles from "./previews.module.css";
import { usePreviewRoot } from "./root";

const STEP = 4096;
/** Lines before a marked one that are in sight with it. */
const BEFORE = 4;
const hex = (value: number, digits: number) => value.toString(16).toUpperCase().padStart(digits, "0");

/** Lines of offset, bytes and characters. */
export function hexLines(bytes: Uint8Array, from: number, across: number): string[] {
  const lines: string[] = [];
  for (let at = 0; at < bytes.length; at += across) {
    const part = [...bytes.subarray(at, at + across)];
    const numbers = part.map((byte) => hex(byte, 2)).join(" ");
    const characters = part.map((byte) => (byte >= 32 && byte < 127 ? String.fromCharCode(byte) : "·")).join("");
    lines.push(`${hex(from + at, 6)}  ${numbers.padEnd(3 * across - 1)}  ${characters}`);
  }
  return lines;
}

export function useBytes(copyId: number, at: number, length: number) {
  const root = usePreviewRoot();
  return useQuery({
    queryKey: ["copy", copyId, "bytes", at, length],
    queryFn: async () => {
      const response = await fetch(`${root}/${copyId}/bytes?at=${at}&length=${length}`);
      if (!response.ok) throw new Error(((await response.json()) as { problem: string }).problem);
      return new Uint8Array(await response.arrayBuffer());
    },
    staleTime: Number.POSITIVE_INFINITY,
  });
}

/** Where a byte of the content stands on the disk; null: nowhere (a hole, coded with others, or not known). */
export function diskOffset(runs: readonly PlacedRun[], at: number): number | null {
  const run = runs.find(({ start, length }) => start !== null && at >= start && at < start + length);
  return run ? run.at + at - (run.start as number) : null;
}

interface Props {
  copyId: number;
  size: number;
  runs: readonly PlacedRun[];
  across: number;
  /** A byte whose line is marked, and in sight at first. */
  marked?: number;
}

export function HexView({ copyId, size, runs, across, marked }: Props) {
  const [at, setAt] = useState(() => (marked === undefined ? 0 : Math.max(0, marked - (marked % across) - BEFORE * across)));
  const { data, error } = useBytes(copyId, at, Math.min(STEP, size - at));
  const disk = diskOffset(runs, at);
  const go = (to: number) => setAt(Math.max(0, Math.min(Math.floor((size - 1) / STEP) * STEP, to)));
  return (
    <>
      <Problem>{problemText(error)}</Problem>
      <div className={styles.hexBar}>
        <span>{disk === null ? "" : `on the disk at ${offsetText(disk)}`}</span>
        {size > STEP && (
          <>
            <button type="button" disabled={at === 0} onClick={() => go(at - STEP)}>
              Back
            </button>
            <button type="button" disabled={at + STEP >= size} onClick={() => go(at + STEP)}>
              On
            </button>
            <button type="button" disabled={at + STEP >= size} onClick={() => go(size)}>
              End
            </button>
          </>
        )}
      </div>
      <Structure copyId={copyId} at={at} onGo={setAt} />
      <pre className={styles.hex}>
        {data &&
          hexLines(data, at, across).map((line, index) => {
            const from = at + index * across;
            const here = marked !== undefined && marked >= from && marked < from + across;
            return here ? <mark key={from}>{`${line}\n`}</mark> : `${line}\n`;
          })}
      </pre>
    </>
  );
}

/** The parts of the content with their offsets; choosing one goes there. */
function Structure({ copyId, at, onGo }: { copyId: number; at: number; onGo: (to: number) => void }) {
  const root = usePreviewRoot();
  const { data: parts = [] } = useQuery({
    queryKey: ["copy", copyId, "outline"],
    queryFn: () => read(`${root}/${copyId}/outline`, outline),
    staleTime: Number.POSITIVE_INFINITY,
  });
  if (parts.length === 0) return null;
  const present = parts.findLast((each) => each.at <= at);
  return (
    <label className={styles.structure}>
      Structure
      <select value={present?.at ?? 0} onChange={(event) => onGo(Number(event.target.value))}>
        {parts.map((each, index) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: a part may hold another that begins where it does
          <option key={index} value={each.at}>
            {`${hex(each.at, 6)}  ${"\u2003".repeat(each.level)}${each.name}, ${each.length} bytes`}
          </option>
        ))}
      </select>
    </label>
  );
}
