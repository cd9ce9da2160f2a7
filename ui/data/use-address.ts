"use client";

import { usePathname, useSearchParams } from "next/navigation";
import { useCallback, useEffect, useSyncExternalStore } from "react";

type Changes = Readonly<Record<string, string | null>>;

interface Written {
  path: string;
  query: string;
}

/**
 * What was last written into the address and has not come back from the router yet. The router follows in a render of
 * low priority: on a busy machine a second press comes before it, and would start from what stood there before the
 * first.
 */
let written: Written | null = null;
const listeners = new Set<() => void>();

function setWritten(next: Written | null): void {
  written = next;
  for (const listener of listeners) listener();
}

const forget = () => setWritten(null);

function subscribe(listener: () => void): () => void {
  if (listeners.size === 0) window.addEventListener("popstate", forget);
  listeners.add(listener);
  return () => {
    listeners.delete(listener);
    if (listeners.size === 0) window.removeEventListener("popstate", forget);
  };
}

/**
 * The state kept in the address, so that a link, a reload or the back button brings back the same view.
 * @returns the present values, and a way to change some of them: null or "" takes one out; `step` makes the change a
 * place the back button returns to
 */
export function useAddress(): [URLSearchParams, (changes: Changes, step?: boolean) => void] {
  const present = useSearchParams().toString();
  const path = usePathname();
  const own = useSyncExternalStore(
    subscribe,
    () => written,
    () => null,
  );
  useEffect(() => {
    // The router has caught up with the address, or went elsewhere since.
    if (written && present === new URLSearchParams(window.location.search).toString()) forget();
  }, [present]);
  const change = useCallback((changes: Changes, step = false) => {
    const next = new URLSearchParams(window.location.search);
    for (const [name, value] of Object.entries(changes)) {
      if (value) next.set(name, value);
      else next.delete(name);
    }
    const query = next.toString();
    if (`?${query}` === (window.location.search || "?")) return;
    const address = `${window.location.pathname}${query ? `?${query}` : ""}`;
    if (step) window.history.pushState(null, "", address);
    else window.history.replaceState(null, "", address);
    setWritten({ path: window.location.pathname, query });
  }, []);
  return [new URLSearchParams(own?.path === path ? own.query : present), change];
}
