"use client";

import { useColorScheme } from "@mui/material/styles";
import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import Link from "next/link";
import { useEffect, useState } from "react";
import bench from "../bench/bench.module.css";
import { ColourScheme } from "../shell/ColourScheme";
import { Compass } from "../shell/Compass";
import styles from "./settings.module.css";

interface Props {
  sources: readonly string[];
  /** Whether connected drives may be read themselves. */
  drives: boolean;
  /** The folders restores are written below, and those that take a lost drive's place. */
  delivery: readonly string[];
  replacements: readonly string[];
  /** How links for clients begin; null: nothing can be shared. */
  shared: string | null;
  data: string;
  version: string;
}

const CHARTS = { system: "As the system", light: "Day", dark: "Night" } as const;

/** What the bench works with. The folders are set where it is started, so that nobody at the screen can widen them. */
export function Settings({ sources, drives, delivery, replacements, shared, data, version }: Props) {
  const { mode, setMode } = useColorScheme();
  const [mounted, setMounted] = useState(false);
  useEffect(() => setMounted(true), []);
  return (
    <div className={bench.page}>
      <header className={bench.bar}>
        <Link href="/" aria-label="All jobs" style={{ display: "flex" }}>
          <Compass />
        </Link>
        <h1>Settings</h1>
        <span style={{ flex: 1 }} />
        <ColourScheme />
      </header>
      <main className={bench.body}>
        <h2 className={styles.heading}>Folders</h2>
        <dl className={styles.facts}>
          <dt>Sources are read from</dt>
          <dd>
            {sources.map((folder) => (
              <code key={folder}>{folder}</code>
            ))}
          </dd>
          <dt>Connected drives</dt>
          <dd>{drives ? "may be read themselves, but for the bench’s own" : "are not read themselves"}</dd>
          <dt>Restores are written below</dt>
          <dd>
            {delivery.map((folder) => (
              <code key={folder}>{folder}</code>
            ))}
          </dd>
          {replacements.length > 0 && (
            <>
              <dt>Files go back to their places on</dt>
              <dd>
                {replacements.map((folder) => (
                  <code key={folder}>{folder}</code>
                ))}
              </dd>
            </>
          )}
          <dt>Clients reach what is shared at</dt>
          <dd>{shared === null ? "nowhere: nothing can be shared" : <code>{shared}</code>}</dd>
          <dt>The bench keeps its own in</dt>
          <dd>
            <code>{data}</code>
          </dd>
        </dl>
        <p className={styles.soft}>
          These are set where the bench is started, by COMPASS_SOURCES, COMPASS_DRIVES, COMPASS_DELIVERY, COMPASS_DELIVERY_MORE,
          COMPASS_REPLACEMENTS, COMPASS_SHARE_HOST and COMPASS_DATA. Sources are opened for reading only, always.
        </p>
        <h2 className={styles.heading}>Known places</h2>
        <p className={styles.soft}>
          Which bins, autosave and temporary folders, backups and recent lists the bench knows:{" "}
          <Link href="/places">read, switch off, add</Link>.
        </p>
        <h2 className={styles.heading}>Chart</h2>
        <ToggleButtonGroup
          exclusive
          size="small"
          aria-label="Chart"
          value={mounted ? mode : "system"}
          onChange={(_, next) => next && setMode(next)}
        >
          {(Object.keys(CHARTS) as (keyof typeof CHARTS)[]).map((key) => (
            <ToggleButton key={key} value={key} sx={{ py: 0.75, px: 3 }}>
              {CHARTS[key]}
            </ToggleButton>
          ))}
        </ToggleButtonGroup>
        <h2 className={styles.heading}>Times</h2>
        <p className={styles.soft}>Each job shows its times in a zone of its own; it is set on the job’s account.</p>
        <h2 className={styles.heading}>About</h2>
        <p className={styles.soft}>
          Tidy Compass {version}. Set in Atkinson Hyperlegible Next and Mono (SIL Open Font License 1.1). Press ? anywhere for the keys.
        </p>
      </main>
    </div>
  );
}
