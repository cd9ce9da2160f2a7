"use client";

import { type QueryClient, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { accountList } from "@/server/accounts/contract";
import { jobSummary } from "@/server/jobs/contract";
import { passList } from "@/server/passes/contract";
import { plan } from "@/server/plan/contract";
import { restoreList } from "@/server/restores/contract";
import { finds, sourceList } from "@/server/sources/contract";
import { tray } from "@/server/tray/contract";
import { type Paced, paced } from "./paced";
import { read } from "./request";

/** How fetched data of a job are filed; what stands below a job's key is fetched anew when the job changes. */
export const keys = {
  job: (jobId: number) => ["job", jobId] as const,
  of: (jobId: number, noun: string) => ["job", jobId, noun] as const,
};

const path = (jobId: number, noun = "") => `/api/jobs/${jobId}${noun && `/${noun}`}`;

export const useJob = (jobId: number) =>
  useQuery({ queryKey: keys.of(jobId, "summary"), queryFn: () => read(path(jobId), jobSummary), retry: false });

export const useAccounts = (jobId: number) =>
  useQuery({ queryKey: keys.of(jobId, "accounts"), queryFn: () => read(path(jobId, "accounts"), accountList) });

/**
 * The moment before which everything was still as it should be, as the first account with a date says: where it gives a day, or a longer time, its
 * beginning. UTC milliseconds; null: no account says.
 */
export function useLoss(jobId: number): number | null {
  const { data: accounts = [] } = useAccounts(jobId);
  const [loss = null] = accounts.flatMap(({ lost }) => lost?.from ?? lost?.to ?? []);
  return loss;
}

export const usePlan = (jobId: number) => useQuery({ queryKey: keys.of(jobId, "plan"), queryFn: () => read(path(jobId, "plan"), plan) });

export const useSources = (jobId: number) =>
  useQuery({ queryKey: keys.of(jobId, "sources"), queryFn: () => read(path(jobId, "sources"), sourceList) });

export const useFinds = (jobId: number) =>
  useQuery({ queryKey: keys.of(jobId, "finds"), queryFn: () => read(path(jobId, "finds"), finds) });

export const usePasses = (jobId: number) =>
  useQuery({ queryKey: keys.of(jobId, "passes"), queryFn: () => read(path(jobId, "passes"), passList) });

export const useTray = (jobId: number) => useQuery({ queryKey: keys.of(jobId, "tray"), queryFn: () => read(path(jobId, "tray"), tray) });

export const useRestores = (jobId: number) =>
  useQuery({ queryKey: keys.of(jobId, "restores"), queryFn: () => read(path(jobId, "restores"), restoreList) });

/** A pass announces every batch; fetching anew more often than this would only keep the browser busy. */
const QUIET_MS = 800;
/** Counting a long list takes the server a while: its counts may lag behind a little. */
const COUNTS_QUIET_MS = 4_000;
const COUNTS = new Set(["spine", "facets", "fits", "survey", "handover", "homes"]);
/** What shows how far the files of a restore are. All else may lag behind while they are written: fetching it takes time from writing them. */
const SETTLING = new Set(["restores", "results"]);

/** What of a job is fetched, or was, as their keys call it. */
function nounsOf(client: QueryClient, jobId: number): Set<string> {
  const queries = client.getQueryCache().findAll({ queryKey: keys.job(jobId) });
  return new Set(queries.flatMap(({ queryKey }) => (typeof queryKey[2] === "string" ? [queryKey[2]] : [])));
}

/** Fetches the job's data anew whenever the server says that something changed. */
export function useJobEvents(jobId: number): void {
  const client = useQueryClient();
  useEffect(() => {
    const events = new EventSource(path(jobId, "events"));
    const paces = new Map<string, Paced>();
    // Each kind by itself: what takes long to count does not keep the rest waiting.
    const follow = (event: "changed" | "settled", quietMs: (noun: string) => number) =>
      events.addEventListener(event, () => {
        for (const noun of nounsOf(client, jobId)) {
          const key = `${event} ${noun}`;
          const pace = paces.get(key) ?? paced(quietMs(noun), () => client.invalidateQueries({ queryKey: keys.of(jobId, noun) }));
          paces.set(key, pace);
          pace.ask();
        }
      });
    follow("changed", (noun) => (COUNTS.has(noun) ? COUNTS_QUIET_MS : QUIET_MS));
    follow("settled", (noun) => (SETTLING.has(noun) ? QUIET_MS : COUNTS_QUIET_MS));
    return () => {
      for (const { stop } of paces.values()) stop();
      events.close();
    };
  }, [client, jobId]);
}
