"use client";

import { useEffect, useState } from "react";

/** How long nothing is typed before what was typed counts. Milliseconds. */
const PAUSE = 200;

/**
 * What stands in a field while it is typed; it counts after a pause. What else changes the value (the back button, another list) is taken over.
 * @returns the text, and a way to change it
 */
export function useTyped(value: string, onSettled: (text: string) => void): [string, (text: string) => void] {
  const [typed, setTyped] = useState(value);
  const [seen, setSeen] = useState(value);
  /** What was handed on last: its coming back as the value is no change from elsewhere. */
  const [sent, setSent] = useState(value);
  if (value !== seen) {
    setSeen(value);
    if (value !== sent) {
      setSent(value);
      setTyped(value);
    }
  }
  useEffect(() => {
    if (typed === value) return;
    const timer = setTimeout(() => {
      setSent(typed);
      onSettled(typed);
    }, PAUSE);
    return () => clearTimeout(timer);
  }, [typed, value, onSettled]);
  return [typed, setTyped];
}
