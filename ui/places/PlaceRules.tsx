"use client";

import Button from "@mui/material/Button";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import Link from "next/link";
import { useState } from "react";
import { type NewRule, OWN_PLACES, ruleList, type StoredRule } from "@/server/places/contract";
import bench from "../bench/bench.module.css";
import { read, write } from "../data/request";
import { Problem, problemText } from "../instruments/Problem";
import { PLACE_WORDS } from "../instruments/words";
import { ColourScheme } from "../shell/ColourScheme";
import { Compass } from "../shell/Compass";
import styles from "./places.module.css";

const SYSTEM_WORDS: Record<StoredRule["system"], string> = { windows: "Windows", mac: "Mac", any: "any system" };
const TIE_WORDS: Record<StoredRule["ties"], string> = {
  beside: "the file beside it",
  "by-name": "the only file of its name, wherever it is",
  none: "nothing that is known",
};

/** The rules by which the bench knows where copies are kept: to read, to switch off, and to add to. */
export function PlaceRules() {
  const client = useQueryClient();
  const { data: rules, error } = useQuery({ queryKey: ["place-rules"], queryFn: () => read("/api/place-rules", ruleList) });
  const refresh = () => client.invalidateQueries({ queryKey: ["place-rules"] });
  const turn = useMutation({
    mutationFn: ({ id, off }: { id: string; off: boolean }) => write("PATCH", `/api/place-rules/${id}`, { off }),
    onSettled: refresh,
  });
  const remove = useMutation({ mutationFn: (id: string) => write("DELETE", `/api/place-rules/${id}`), onSettled: refresh });
  const [adding, setAdding] = useState(false);
  return (
    <div className={bench.page}>
      <header className={bench.bar}>
        <Link href="/" aria-label="All jobs" style={{ display: "flex" }}>
          <Compass />
        </Link>
        <h1>Known places</h1>
        <span style={{ flex: 1 }} />
        <ColourScheme />
      </header>
      <main className={bench.body}>
        <div className={styles.head}>
          <div>
            <h2>Rules of this bench</h2>
            <p>
              Where systems and applications leave copies, and how the right name comes out. A file belongs to the first rule that fits it;
              rules of your own come before the shipped ones. They are common practice, gathered from no published source.
            </p>
          </div>
          <Button variant="contained" onClick={() => setAdding(!adding)} aria-expanded={adding}>
            Add a rule
          </Button>
        </div>
        {adding && <AddRule onDone={() => setAdding(false)} onAdded={refresh} />}
        <Problem>{problemText(error) ?? problemText(turn.error) ?? problemText(remove.error)}</Problem>
        <ul className={styles.rules} aria-label="Rules">
          {rules?.map((rule) => (
            <li key={rule.id} data-off={rule.off}>
              <input
                type="checkbox"
                aria-label={rule.title}
                checked={!rule.off}
                onChange={(event) => turn.mutate({ id: rule.id, off: !event.target.checked })}
              />
              <div>
                <b>{rule.title}</b>
                <span>
                  {PLACE_WORDS[rule.place]}, {SYSTEM_WORDS[rule.system]}
                </span>
                <p>{rule.holds}</p>
                <details>
                  <summary>Patterns and names</summary>
                  <dl>
                    <dt>Where</dt>
                    <dd>
                      {rule.where.map((glob) => (
                        <code key={glob}>{glob}</code>
                      ))}
                    </dd>
                    <dt>Right name</dt>
                    <dd>
                      {namingWords(rule)}
                      {rule.naming.pattern && <code>{rule.naming.pattern}</code>}
                    </dd>
                    <dt>A copy of</dt>
                    <dd>{TIE_WORDS[rule.ties]}</dd>
                    <dt>Note beside each find</dt>
                    <dd>{rule.note}</dd>
                  </dl>
                </details>
              </div>
              {rule.own && (
                <Button variant="outlined" disabled={remove.isPending} onClick={() => remove.mutate(rule.id)}>
                  Remove
                </Button>
              )}
            </li>
          ))}
        </ul>
      </main>
    </div>
  );
}

function namingWords({ naming: { extension } }: StoredRule): string {
  if (extension === "keep") return "with the extension it has";
  if (extension === "content") return "with the extension of its content";
  return `as .${extension.name}, only when its content is one`;
}

const EMPTY = { title: "", system: "any", place: "autosave", where: "", pattern: "", extension: "content", ties: "none", note: "" };

function AddRule({ onDone, onAdded }: { onDone: () => void; onAdded: () => void }) {
  const [values, setValues] = useState(EMPTY);
  const add = useMutation({
    mutationFn: () =>
      write("POST", "/api/place-rules", {
        ...values,
        where: values.where.split("\n").filter((line) => line.trim() !== ""),
        pattern: values.pattern || null,
      } satisfies Record<keyof NewRule, unknown>),
    onSuccess: () => {
      onAdded();
      onDone();
    },
  });
  const text = (key: keyof typeof EMPTY, label: string, hint: string) => (
    <label>
      {label}
      <input value={values[key]} placeholder={hint} onChange={(event) => setValues({ ...values, [key]: event.target.value })} />
    </label>
  );
  const choice = (key: keyof typeof EMPTY, label: string, table: Record<string, string>) => (
    <label>
      {label}
      <select value={values[key]} onChange={(event) => setValues({ ...values, [key]: event.target.value })}>
        {Object.entries(table).map(([value, words]) => (
          <option key={value} value={value}>
            {words}
          </option>
        ))}
      </select>
    </label>
  );
  return (
    <form
      className={styles.form}
      aria-label="A rule of your own"
      onSubmit={(event) => {
        event.preventDefault();
        add.mutate();
      }}
    >
      {text("title", "Name", "Backups of the notation program")}
      {choice("place", "It holds", Object.fromEntries(OWN_PLACES.map((place) => [place, PLACE_WORDS[place] ?? place])))}
      {choice("system", "On", SYSTEM_WORDS)}
      <label className={styles.wide}>
        Where, a pattern a line: * any letters, ** any folders
        <textarea
          rows={3}
          value={values.where}
          placeholder={"**/Scores/*.score~\n**/Backup Scores/*"}
          onChange={(event) => setValues({ ...values, where: event.target.value })}
        />
      </label>
      {text("pattern", "The right name in the found one, as a regular expression with (?<name>…) or (?<stem>…)", "^(?<name>.+)~$")}
      {choice("extension", "Its extension", { content: "that of its content", keep: "the one it has" })}
      {choice("ties", "A copy of", TIE_WORDS)}
      {text("note", "Note beside each find", "")}
      <div className={styles.wide}>
        <Problem>{problemText(add.error)}</Problem>
        <Button type="submit" variant="contained" disabled={add.isPending}>
          Add it
        </Button>
        <Button variant="outlined" onClick={onDone} sx={{ ml: 2 }}>
          Leave it
        </Button>
      </div>
    </form>
  );
}
