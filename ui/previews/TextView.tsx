"use client";

import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { textPreview } from "@/server/previews/contract";
import { read } from "../data/request";
import { NotShown } from "./NotShown";
import styles from "./previews.module.css";
import { usePreviewRoot } from "./root";

/** Codes a client's text may be in, when what was guessed is wrong. */
const ENCODINGS = [
  "utf-8",
  "utf-16le",
  "utf-16be",
  "windows-1252",
  "windows-1251",
  "windows-1250",
  "cp437",
  "cp850",
  "shift_jis",
  "gbk",
  "macintosh",
];

export function useText(copyId: number, form: "text" | "document", encoding: string | null = null) {
  const root = usePreviewRoot();
  return useQuery({
    queryKey: ["copy", copyId, form, encoding],
    queryFn: () => read(`${root}/${copyId}/${form}${encoding ? `?encoding=${encoding}` : ""}`, textPreview),
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  });
}

export function TextView({ copyId, form, otherwise }: { copyId: number; form: "text" | "document"; otherwise: ReactNode }) {
  const [encoding, setEncoding] = useState<string | null>(null);
  const { data, error } = useText(copyId, form, encoding);
  if (error) return <NotShown error={error}>{otherwise}</NotShown>;
  return (
    <>
      {data && form === "text" && (
        <select
          className={styles.encoding}
          aria-label="Text encoding"
          value={data.encoding}
          onChange={(event) => setEncoding(event.target.value)}
        >
          {ENCODINGS.map((each) => (
            <option key={each}>{each}</option>
          ))}
        </select>
      )}
      {data && (
        <pre className={styles.text} dir="auto">
          {data.text}
          {data.truncated && "\n… (only the beginning is shown)"}
        </pre>
      )}
    </>
  );
}
