"use client";

import Button from "@mui/material/Button";
import Link from "next/link";
import type { Copy } from "@/server/items/contract";
import { useFacts } from "../previews/Preview";
import styles from "./items.module.css";

/** A copy that is a database: its rows are read on a page of their own. */
export function ReadRecords({ jobId, itemId, copy }: { jobId: number; itemId: number; copy: Copy }) {
  const { data: facts } = useFacts(copy.id);
  if (!facts?.records) return null;
  return (
    <div className={styles.repair}>
      <Button component={Link} variant="outlined" href={`/jobs/${jobId}/records?copy=${copy.id}&item=${itemId}`}>
        Read its records
      </Button>
    </div>
  );
}
