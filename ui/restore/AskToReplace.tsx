"use client";

import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import type { Conflict, Kind, RehearsedFile, RestorePlan, Survey } from "@/server/restores/contract";
import { countText, filesText } from "../instruments/words";
import { RehearsalTable } from "./RehearsalTable";
import styles from "./restore.module.css";

/** The files that would be replaced by what was said so far. */
export function toReplace(
  { conflicts, kinds: found }: Survey,
  conflict: Conflict,
  kinds: RestorePlan["kinds"],
  choices: RestorePlan["choices"],
): { count: number; files: RehearsedFile[] } {
  const files = conflicts.filter((file) => (choices[file.copyId] ?? kinds[file.kind] ?? conflict) === "replace");
  // Those that are not listed one by one go by their kind.
  const unlisted = Object.entries(found).map(([kind, count]) => ({
    wish: kinds[kind as Kind] ?? conflict,
    count: count - conflicts.filter((file) => file.kind === kind).length,
  }));
  return { count: unlisted.reduce((sum, { wish, count }) => sum + (wish === "replace" ? count : 0), files.length), files };
}

interface Props {
  count: number;
  files: readonly RehearsedFile[];
  root: string;
  onCancel: () => void;
  onReplace: () => void;
}

/** Asks once before anything that is there is replaced, and shows what that is. */
export function AskToReplace({ count, files, root, onCancel, onReplace }: Props) {
  return (
    <Dialog open onClose={onCancel} fullWidth maxWidth="md" aria-labelledby="replace-title">
      <DialogTitle id="replace-title">{`Replace ${filesText(count)} that ${count === 1 ? "is" : "are"} there?`}</DialogTitle>
      <DialogContent sx={{ px: 5 }}>
        <p className={styles.lead}>Each is kept beside the new one, under its name with the moment it was replaced.</p>
        <RehearsalTable jobId={0} root={root} files={files.slice(0, 50)} conflict="replace" kinds={{}} choices={{}} onChoice={null} />
        {count > 50 && <p className={styles.lead}>and {countText(count - Math.min(50, files.length))} more.</p>}
      </DialogContent>
      <DialogActions>
        <Button variant="outlined" onClick={onCancel}>
          Not yet
        </Button>
        <Button variant="contained" onClick={onReplace}>
          Replace and keep the old ones aside
        </Button>
      </DialogActions>
    </Dialog>
  );
}
