"use client";

import { useEffect, useState } from "react";

/** How long nothing is typed before what was typed counts. Milliseconds. */
const PAUSE = 200;

/** What stands in a field while it is typed; it counts after a pause. @returns the text, and a way to change it */
export function useTyped(value: string, onSettled: (text: string) => void): [string, (text: string) => void] {
  const [typed, setTyped] = useState(value);
  useEffect(() => {
    if (typed === value) return;
    const timer = setTimeout(() => onSettled(typed), PAUSE);
    return () => clearTimeout(timer);
  }, [typed, value, onSettled]);
  return [typed, setTyped];
}
