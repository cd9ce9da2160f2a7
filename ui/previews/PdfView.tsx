"use client";

import { GlobalWorkerOptions, getDocument, type PDFDocumentProxy } from "pdfjs-dist";
import { type ReactNode, useEffect, useRef, useState } from "react";
import { Problem } from "../instruments/Problem";
import styles from "./previews.module.css";
import { usePreviewRoot } from "./root";

GlobalWorkerOptions.workerSrc = new URL("pdfjs-dist/build/pdf.worker.min.mjs", import.meta.url).toString();

const MAX_PAGES = 60;

/** The pages of a PDF document, drawn one by one as they come into sight. */
export function PdfView({ copyId, otherwise }: { copyId: number; otherwise: ReactNode }) {
  const root = usePreviewRoot();
  const [found, setFound] = useState<PDFDocumentProxy | null>(null);
  const [problem, setProblem] = useState<string | null>(null);
  useEffect(() => {
    // No scripts of the document run: there is no scripting layer, and code is never made from its functions.
    const task = getDocument({ url: `${root}/${copyId}/content`, isEvalSupported: false, enableXfa: false, disableAutoFetch: true });
    task.promise
      .then(setFound)
      .catch((error: Error) => setProblem(`Its pages cannot be shown (${error.message}). Its bytes are shown instead.`));
    return () => void task.destroy();
  }, [copyId, root]);
  if (problem)
    return (
      <>
        <Problem>{problem}</Problem>
        {otherwise}
      </>
    );
  if (!found) return <p className={styles.more}>Opening …</p>;
  return (
    <>
      {Array.from({ length: Math.min(MAX_PAGES, found.numPages) }, (_, index) => index + 1).map((number) => (
        <Page key={number} document={found} number={number} />
      ))}
      {found.numPages > MAX_PAGES && (
        <p className={styles.more}>
          the first {MAX_PAGES} of {found.numPages} pages
        </p>
      )}
    </>
  );
}

function Page({ document, number }: { document: PDFDocumentProxy; number: number }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const [state, setState] = useState<"waiting" | "drawn" | "failed">("waiting");
  useEffect(() => {
    const element = canvas.current;
    if (!element) return;
    let gone = false;
    const draw = async () => {
      const page = await document.getPage(number);
      if (gone) return;
      const own = page.getViewport({ scale: 1 });
      const scale = ((element.parentElement?.clientWidth ?? 300) / own.width) * (window.devicePixelRatio || 1);
      const viewport = page.getViewport({ scale });
      element.width = viewport.width;
      element.height = viewport.height;
      await page.render({ canvas: element, viewport }).promise;
      if (!gone) setState("drawn");
    };
    const watch = new IntersectionObserver(([entry]) => {
      if (!entry?.isIntersecting) return;
      watch.disconnect();
      draw().catch(() => !gone && setState("failed"));
    });
    watch.observe(element);
    return () => {
      gone = true;
      watch.disconnect();
    };
  }, [document, number]);
  return (
    <>
      <canvas ref={canvas} className={styles.pdfPage} role="img" aria-label={`Page ${number}`} data-state={state} />
      {state === "failed" && <Problem>{`Page ${number} is damaged and cannot be drawn.`}</Problem>}
    </>
  );
}
