"use client";

import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import type { RecordFile } from "@/server/records/contract";
import { HexView } from "../previews/HexView";
import { placeTitle } from "./place-title";
import styles from "./records.module.css";

const PLACE = /^(main|log|journal):(\d{1,15})$/;

interface ButtonProps {
  readonly from: RecordFile["from"] | null;
  /** Bytes from the beginning of that file; null: the row has no place of its own. */
  readonly at: number | null;
  readonly onBytes: (place: string) => void;
}

/** Shows the bytes a row stands in. */
export function BytesButton({ from, at, onBytes }: ButtonProps) {
  if (from === null || at === null) return null;
  const title = placeTitle(from, at);
  return (
    <>
      {" "}
      <button type="button" className={styles.bytes} title={title} aria-label={`Bytes: ${title}`} onClick={() => onBytes(`${from}:${at}`)}>
        bytes
      </button>
    </>
  );
}

interface Props {
  readonly files: readonly RecordFile[];
  /** Which file, and which byte of it, as it stands in the address; null: nothing is asked for. */
  readonly place: string | null;
  readonly onClose: () => void;
}

/** The bytes of the file a row stands in, with the line in which it begins marked. */
export function RowBytes({ files, place, onClose }: Props) {
  const [, from, byte] = PLACE.exec(place ?? "") ?? [];
  const file = files.find((each) => each.from === from);
  const at = Number(byte);
  if (!file || at >= file.size) return null;
  const title = `${file.name}, byte ${at.toLocaleString("en")}`;
  return (
    <Dialog open onClose={onClose} maxWidth="lg" slotProps={{ paper: { sx: { p: 3 }, "aria-label": title } }}>
      <h2 className={styles.bytesTitle}>{title}</h2>
      <p className={styles.note}>The row stands from the marked line on.</p>
      <HexView key={`${file.copyId} ${at}`} copyId={file.copyId} size={file.size} runs={file.runs} across={16} marked={at} />
      <Button onClick={onClose}>Close</Button>
    </Dialog>
  );
}
