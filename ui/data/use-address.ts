"use client";

import { useSearchParams } from "next/navigation";
import { useCallback } from "react";

type Changes = Readonly<Record<string, string | null>>;

/**
 * The state kept in the address, so that a link, a reload or the back button brings back the same view.
 * @returns the present values, and a way to change some of them: null or "" takes one out; `step` makes the change a
 * place the back button returns to
 */
export function useAddress(): [URLSearchParams, (changes: Changes, step?: boolean) => void] {
  const present = useSearchParams();
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
  }, []);
  return [new URLSearchParams(present), change];
}
