"use client";

import { useQuery } from "@tanstack/react-query";
import dynamic from "next/dynamic";
import { useState } from "react";
import type { PlacedRun } from "@/server/items/contract";
import { type PreviewFacts, previewForm } from "@/server/previews/contract";
import { ABSENCE_WORDS } from "@/server/words/contract";
import { read } from "../data/request";
import { Problem, problemText } from "../instruments/Problem";
import { HexView } from "./HexView";
import { MediaView } from "./MediaView";
import { PictureView } from "./PictureView";
import styles from "./previews.module.css";
import { usePreviewRoot } from "./root";
import { SettingsView } from "./SettingsView";
import { ArchiveView, TablesView } from "./TablesView";
import { TextView } from "./TextView";

// The viewer of PDF pages is large and seldom needed.
const PdfView = dynamic(() => import("./PdfView").then((module) => module.PdfView), { ssr: false });

export function useFacts(copyId: number) {
  const root = usePreviewRoot();
  return useQuery({
    queryKey: ["copy", copyId, "form"],
    queryFn: () => read(`${root}/${copyId}/form`, previewForm),
    staleTime: Number.POSITIVE_INFINITY,
  });
}

interface Props {
  copyId: number;
  name: string;
  size: number;
  /** Disk offsets of its bytes, for the hex view. */
  runs: readonly PlacedRun[];
  large?: boolean;
  /** Nothing of its content is known: there is nothing to show. */
  nameOnly?: boolean;
}

/**
 * What is in a copy. Nothing of the file runs: pictures are drawn anew by the server, PDF pages onto a canvas without
 * scripts, everything else is text. The bytes can be seen of any.
 */
export function Preview(props: Props) {
  if (!props.nameOnly || props.runs.length > 0) return <Content {...props} />;
  return (
    <div className={styles.preview} data-large={props.large ?? false} data-form="text">
      <p className={styles.text}>Only its name is known: there is no content to show.</p>
    </div>
  );
}

function Content({ copyId, name, size, runs, large = false }: Props) {
  const { data: facts, error } = useFacts(copyId);
  const [bytes, setBytes] = useState(false);
  const [tree, setTree] = useState<boolean | null>(null);
  // What nobody can read as text is shown as what it says.
  const asTree = !bytes && facts?.settings === true && (tree ?? facts.form === "hex");
  const asBytes = bytes || (facts?.form === "hex" && !asTree);
  return (
    <>
      <div className={styles.preview} data-large={large} data-form={asBytes ? "hex" : asTree ? "settings" : facts?.form}>
        <Problem>{problemText(error)}</Problem>
        {!facts ? null : facts.absent ? (
          <p className={styles.text}>{ABSENCE_WORDS[facts.absent]}</p>
        ) : size === 0 ? (
          <p className={styles.text}>The file is empty.</p>
        ) : asBytes ? (
          <HexView copyId={copyId} size={size} runs={runs} across={large ? 16 : 8} />
        ) : asTree ? (
          <SettingsView
            copyId={copyId}
            otherwise={<Shown facts={facts} copyId={copyId} name={name} size={size} runs={runs} large={large} />}
          />
        ) : (
          <Shown facts={facts} copyId={copyId} name={name} size={size} runs={runs} large={large} />
        )}
      </div>
      {facts && !facts.absent && size > 0 && (
        <p className={styles.facts}>
          <span>{wordsOf(facts)}</span>
          {facts.settings && facts.form !== "hex" && !bytes && (
            <button type="button" onClick={() => setTree(!asTree)}>
              {asTree ? "Show text" : "Show names and values"}
            </button>
          )}
          {(facts.form !== "hex" || facts.settings) && (
            <button type="button" onClick={() => setBytes(!bytes)}>
              {bytes ? "Show content" : "Show bytes"}
            </button>
          )}
        </p>
      )}
    </>
  );
}

function wordsOf({ format, pixels, taken, camera }: PreviewFacts): string {
  const parts = [format ?? "type not known", pixels && `${pixels.width} × ${pixels.height} pixels`, taken && `taken ${taken}`, camera];
  return parts.filter(Boolean).join(", ");
}

function Shown({ facts, copyId, name, size, runs, large }: Required<Omit<Props, "nameOnly">> & { facts: PreviewFacts }) {
  const hex = <HexView copyId={copyId} size={size} runs={runs} across={large ? 16 : 8} />;
  switch (facts.form) {
    case "picture":
      return <PictureView copyId={copyId} name={name} large={large} otherwise={hex} />;
    case "text":
    case "document":
      return <TextView copyId={copyId} form={facts.form} otherwise={hex} />;
    case "tables":
      return <TablesView copyId={copyId} otherwise={hex} />;
    case "archive":
      return <ArchiveView copyId={copyId} />;
    case "pdf":
      return <PdfView copyId={copyId} otherwise={hex} />;
    case "audio":
    case "video":
      return <MediaView copyId={copyId} form={facts.form} name={name} />;
    default:
      return hex;
  }
}
