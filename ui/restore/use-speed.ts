import { useEffect, useRef } from "react";
import type { Counts, Restore } from "@/server/restores/contract";
import { bytesText, durationText } from "../instruments/words";

/** Over how long the speed is taken. Milliseconds. */
const SPAN = 15_000;

/** Bytes a second by what was settled lately; null while too little is known. */
export function useSpeed({ state, counts }: Restore): number | null {
  const samples = useRef<{ at: number; bytes: number }[]>([]);
  useEffect(() => {
    if (state !== "running") samples.current = [];
    else samples.current = [...samples.current.filter(({ at }) => Date.now() - at < SPAN), { at: Date.now(), bytes: counts.settledBytes }];
  }, [state, counts.settledBytes]);
  const first = samples.current[0];
  if (state !== "running" || !first) return null;
  const [spent, done] = [Date.now() - first.at, counts.settledBytes - first.bytes];
  return spent > 1500 && done > 0 ? (done / spent) * 1000 : null;
}

/** The speed and what follows from it, in words. */
export const speedText = (speed: number | null, { bytes, settledBytes }: Counts): string =>
  speed === null ? "" : `, ${bytesText(speed)} a second, about ${durationText(((bytes - settledBytes) / speed) * 1000)} left`;
