"use client";

import dynamic from "next/dynamic";
import { useParams, useRouter } from "next/navigation";
import { useEffect, useState } from "react";
import { STAGES } from "./stages";

const Palette = dynamic(() => import("./Palette").then((module) => module.Palette), { ssr: false });
const Keys = dynamic(() => import("./Keys").then((module) => module.Keys), { ssr: false });

const isTyping = (target: EventTarget | null) =>
  target instanceof HTMLElement &&
  (target.isContentEditable || (/^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName) && (target as HTMLInputElement).type !== "checkbox"));

/** The keys that work anywhere, and what they open. */
export function Shortcuts() {
  const [open, setOpen] = useState<"palette" | "keys" | null>(null);
  const router = useRouter();
  const { job, share } = useParams<{ job?: string; share?: string }>();
  useEffect(() => {
    // A client who was sent a link has nothing of the bench but what it leads to.
    if (share) return;
    const onKey = (event: KeyboardEvent) => {
      if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "k") {
        event.preventDefault();
        setOpen("palette");
        return;
      }
      if (event.ctrlKey || event.metaKey || event.altKey || isTyping(event.target) || document.querySelector('[role="dialog"]')) return;
      const stage = STAGES[Number(event.key) - 1];
      if (event.key === "?") setOpen("keys");
      else if (event.key === "/") document.querySelector<HTMLInputElement>('[data-search="items"]')?.focus();
      else if (stage && job) router.push(`/jobs/${job}/${stage}`);
      else return;
      event.preventDefault();
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [router, job, share]);
  return (
    <>
      {open === "palette" && <Palette onClose={() => setOpen(null)} onKeys={() => setOpen("keys")} />}
      {open === "keys" && <Keys onClose={() => setOpen(null)} />}
    </>
  );
}
