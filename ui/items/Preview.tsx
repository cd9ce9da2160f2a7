"use client";

import { useQuery } from "@tanstack/react-query";
import { z } from "zod";
import { PREVIEW_FORMS, textPreview } from "@/server/items/contract";
import { read } from "../data/request";
import { Problem, problemText } from "../instruments/Problem";
import styles from "./items.module.css";

const form = z.object({ form: z.enum(PREVIEW_FORMS) });
const HEX_BYTES = 4096;

interface Props {
  copyId: number;
  name: string;
  size: number;
  large?: boolean;
}

/** What is in a copy. Nothing of the file runs: pictures are drawn anew, everything else is text. */
export function Preview({ copyId, name, size, large = false }: Props) {
  const { data, error } = useQuery({
    queryKey: ["copy", copyId, "form"],
    queryFn: () => read(`/api/copies/${copyId}/form`, form),
    staleTime: Number.POSITIVE_INFINITY,
  });
  return (
    <div className={styles.preview} data-large={large} data-form={data?.form}>
      <Problem>{problemText(error)}</Problem>
      {size === 0 ? (
        <p className={styles.text}>The file is empty.</p>
      ) : data?.form === "picture" ? (
        <Picture copyId={copyId} name={name} large={large} />
      ) : data?.form === "text" || data?.form === "document" ? (
        <Text copyId={copyId} form={data.form} />
      ) : (
        data && <Hex copyId={copyId} size={size} />
      )}
    </div>
  );
}

function Picture({ copyId, name, large }: { copyId: number; name: string; large: boolean }) {
  const address = `/api/copies/${copyId}/picture${large ? "?longest=large" : ""}`;
  const { data, error } = useQuery({
    queryKey: ["copy", copyId, "picture", large],
    queryFn: async () => {
      const response = await fetch(address);
      if (!response.ok) throw new Error(((await response.json()) as { problem: string }).problem);
      return URL.createObjectURL(await response.blob());
    },
    staleTime: Number.POSITIVE_INFINITY,
  });
  if (error)
    return (
      <>
        <Problem>{problemText(error)}</Problem>
        <Hex copyId={copyId} size={HEX_BYTES} />
      </>
    );
  // biome-ignore lint/performance/noImgElement: the picture is drawn for this view by the server already
  return data ? <img className={styles.picture} src={data} alt={`Preview of ${name}`} /> : null;
}

function Text({ copyId, form }: { copyId: number; form: "text" | "document" }) {
  const { data, error } = useQuery({
    queryKey: ["copy", copyId, form],
    queryFn: () => read(`/api/copies/${copyId}/${form}`, textPreview),
    staleTime: Number.POSITIVE_INFINITY,
  });
  return (
    <>
      <Problem>{problemText(error)}</Problem>
      {data && (
        <pre className={styles.text} dir="auto">
          {data.text}
          {data.truncated && "\n…"}
        </pre>
      )}
    </>
  );
}

const hex = (value: number, digits: number) => value.toString(16).toUpperCase().padStart(digits, "0");

function hexLines(bytes: Uint8Array): string {
  const lines: string[] = [];
  for (let at = 0; at < bytes.length; at += 8) {
    const part = [...bytes.subarray(at, at + 8)];
    const numbers = part
      .map((byte) => hex(byte, 2))
      .join(" ")
      .padEnd(23);
    lines.push(`${hex(at, 6)}  ${numbers}  ${part.map((byte) => (byte >= 32 && byte < 127 ? String.fromCharCode(byte) : "·")).join("")}`);
  }
  return lines.join("\n");
}

function Hex({ copyId, size }: { copyId: number; size: number }) {
  const length = Math.min(HEX_BYTES, size);
  const { data, error } = useQuery({
    queryKey: ["copy", copyId, "bytes", length],
    queryFn: async () => {
      const response = await fetch(`/api/copies/${copyId}/bytes?at=0&length=${length}`);
      if (!response.ok) throw new Error(((await response.json()) as { problem: string }).problem);
      return hexLines(new Uint8Array(await response.arrayBuffer()));
    },
    staleTime: Number.POSITIVE_INFINITY,
  });
  return (
    <>
      <Problem>{problemText(error)}</Problem>
      <pre className={styles.hex}>{data}</pre>
    </>
  );
}
