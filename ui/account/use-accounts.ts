"use client";

import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { type Account, accountList } from "@/server/accounts/contract";
import { write } from "../data/request";
import { keys, useAccounts } from "../data/use-job-data";
import { problemText } from "../instruments/Problem";

const SAVE_AFTER_MS = 500;

/** The accounts of a job as they are being filled; each change is saved a moment later. */
export function useSavedAccounts(jobId: number) {
  const client = useQueryClient();
  const { data: stored } = useAccounts(jobId);
  const [values, setValues] = useState<Account[] | null>(null);
  const [state, setState] = useState("");
  const [problem, setProblem] = useState<string | null>(null);
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  const unsaved = useRef<Account[] | null>(null);

  useEffect(() => {
    // What is being typed is newer than what the server knows.
    if (stored && !unsaved.current) setValues(stored);
  }, [stored]);

  const save = async () => {
    const sent = unsaved.current;
    if (!sent) return;
    try {
      const saved = accountList.parse(await write("PUT", `/api/jobs/${jobId}/accounts`, sent));
      if (unsaved.current === sent) {
        unsaved.current = null;
        client.setQueryData(keys.of(jobId, "accounts"), saved);
      }
      await client.invalidateQueries({ queryKey: keys.of(jobId, "plan") });
      // What was typed meanwhile waits for its own saving.
      if (!unsaved.current) setState("Saved.");
      setProblem(null);
    } catch (error) {
      setState("");
      setProblem(problemText(error));
    }
  };
  const latest = useRef(save);
  latest.current = save;
  // Leaving the view must not lose the last words.
  useEffect(() => () => void latest.current(), []);

  const set = (next: Account[]) => {
    setValues(next);
    unsaved.current = next;
    setState("Saving …");
    clearTimeout(timer.current);
    timer.current = setTimeout(() => void latest.current(), SAVE_AFTER_MS);
  };
  return { values, set, state, problem };
}
