"use client";

import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import type { ReactNode } from "react";
import { CONFLICTS, LAYOUTS, RESTORE_FORMS, type RestoreForm, type RestoreLayout, type RestorePlan } from "@/server/restores/contract";
import { DeliveryField } from "./DeliveryField";
import { NamesField } from "./NamesField";
import { CONFLICT_WORDS } from "./RehearsalTable";
import styles from "./restore.module.css";

const LAYOUT_WORDS: Readonly<Record<RestoreLayout, string>> = {
  tree: "In their own folders",
  kind: "By kind",
  date: "By the day they were taken or changed",
  flat: "All in one folder",
};

const FORM_WORDS: Readonly<Record<RestoreForm, string>> = { files: "Files as they are", bag: "A package for the archive" };
/** What a package may hold, by what it is put on; bytes, with room left for the disc's own tables. */
const BAG_LIMITS = [
  [0, "everything"],
  [4_400_000_000, "a DVD (4.4 GB)"],
  [24_000_000_000, "a Blu-ray disc (24 GB)"],
  [31_000_000_000, "a stick of 32 GB"],
] as const;

/** What of a plan the form says; the rest is said file by file. */
export type Wishes = Pick<RestorePlan, "delivery" | "conflict" | "layout" | "names" | "form" | "bagLimit"> & {
  /** The delivery folder takes the place of a lost drive: no folder is named. */
  readonly replaces: boolean;
};
export const FIRST_WISHES: Wishes = {
  delivery: null,
  replaces: false,
  conflict: "keep-both",
  layout: "tree",
  names: "",
  form: "files",
  bagLimit: null,
};

interface Props {
  jobId: number;
  folder: string;
  onFolder: (folder: string) => void;
  wishes: Wishes;
  onWishes: (wishes: Wishes) => void;
  /** What stands behind the fields. */
  children: ReactNode;
}

/** Where the files of the tray go, and how. */
export function PlanForm({ jobId, folder, onFolder, wishes, onWishes, children }: Props) {
  const { delivery, replaces, conflict, layout, form, bagLimit } = wishes;
  const choice = <V extends string>(
    label: string,
    value: V,
    all: readonly V[],
    words: Readonly<Record<V, string>>,
    then: (next: V) => void,
  ) => (
    <TextField select size="small" label={label} value={value} onChange={(event) => then(event.target.value as V)} sx={{ width: 225 }}>
      {all.map((each) => (
        <MenuItem key={each} value={each}>
          {words[each]}
        </MenuItem>
      ))}
    </TextField>
  );
  return (
    <div className={styles.form}>
      <DeliveryField
        jobId={jobId}
        value={delivery}
        onChange={(next, back) =>
          onWishes({ ...wishes, delivery: next, replaces: back, ...(back ? { layout: "tree", names: "", form: "files" } : {}) })
        }
      />
      {!replaces && (
        <TextField
          size="small"
          label="Folder in the delivery folder"
          value={folder}
          onChange={(event) => onFolder(event.target.value)}
          sx={{ width: 340 }}
        />
      )}
      {form === "files" &&
        choice("If a file is already there", conflict, CONFLICTS, CONFLICT_WORDS, (next) => onWishes({ ...wishes, conflict: next }))}
      {!replaces &&
        choice<RestoreLayout>("How the files lie there", layout, LAYOUTS, LAYOUT_WORDS, (next) => onWishes({ ...wishes, layout: next }))}
      {!replaces && <NamesField value={wishes.names} onChange={(names) => onWishes({ ...wishes, names })} />}
      {!replaces && choice<RestoreForm>("What is made", form, RESTORE_FORMS, FORM_WORDS, (next) => onWishes({ ...wishes, form: next }))}
      {form === "bag" && (
        <TextField
          select
          size="small"
          label="One package holds"
          value={bagLimit ?? 0}
          onChange={(event) => onWishes({ ...wishes, bagLimit: Number(event.target.value) || null })}
          sx={{ width: 210 }}
        >
          {BAG_LIMITS.map(([bytes, words]) => (
            <MenuItem key={bytes} value={bytes}>
              {words}
            </MenuItem>
          ))}
        </TextField>
      )}
      {children}
    </div>
  );
}
