"use client";

import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { NotShown } from "./NotShown";
import styles from "./previews.module.css";
import { usePreviewRoot } from "./root";

/** The picture as the server draws it. @throws Error in its words when it cannot */
export function usePicture(copyId: number, large: boolean) {
  const root = usePreviewRoot();
  return useQuery({
    queryKey: ["copy", copyId, "picture", large],
    queryFn: async () => {
      const response = await fetch(`${root}/${copyId}/picture${large ? "?longest=large" : ""}`);
      if (!response.ok) throw new Error(((await response.json()) as { problem: string }).problem);
      return URL.createObjectURL(await response.blob());
    },
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  });
}

/** A picture; a click (or Enter) shows it at its own size and back. */
export function PictureView({ copyId, name, large, otherwise }: { copyId: number; name: string; large: boolean; otherwise: ReactNode }) {
  const [own, setOwn] = useState(false);
  const { data, error } = usePicture(copyId, large || own);
  if (error) return <NotShown error={error}>{otherwise}</NotShown>;
  if (!data) return null;
  return (
    <button
      type="button"
      className={styles.zoom}
      data-own={own}
      aria-label={own ? "Fit the picture" : "Show the picture at its own size"}
      onClick={() => setOwn(!own)}
    >
      <img className={own ? styles.own : styles.picture} src={data} alt={`Preview of ${name}`} />
    </button>
  );
}
