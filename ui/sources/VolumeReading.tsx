"use client";

import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableHead from "@mui/material/TableHead";
import TableRow from "@mui/material/TableRow";
import type { Profile, Source } from "@/server/sources/contract";
import { bytesText, countText, dateText, exactBytes, KIND_WORDS } from "../instruments/words";
import styles from "./sources.module.css";

/** Kinds named for one profile at most. */
const MOST_KINDS = 3;

/** What reading a whole volume gave beside its files: what does not add up in it, and the users' profiles. */
export function VolumeReading({ volume, several }: { volume: Source["volumes"][number]; several: boolean }) {
  const { findings, profiles, readingAt } = volume;
  if (!readingAt) return null;
  const folder = volume.filesystem === "folder";
  const of = several ? ` of ${volume.label ?? `volume ${volume.number}`}` : "";
  return (
    <>
      {profiles.length > 0 && (
        <>
          <h3 className={styles.part}>Profiles{of}</h3>
          <Profiles profiles={profiles} label={`Profiles${of}`} />
        </>
      )}
      <h3 className={styles.part}>
        {folder ? "What was not read" : "What does not add up"}
        {of}
      </h3>
      {findings.length === 0 ? (
        <p className={styles.quiet}>
          {folder ? "Nothing was noted when it was looked through." : "Nothing: its records, folders and map agree with one another."}
        </p>
      ) : (
        <ul className={styles.findings}>
          {findings.map((finding) => (
            <li key={finding.what}>
              <b>{countText(finding.count)}</b>
              <span>
                {finding.what}
                <i>
                  {finding.examples.join("; ")}
                  {finding.count > finding.examples.length && finding.examples.length > 0 ? " …" : ""}
                </i>
              </span>
            </li>
          ))}
        </ul>
      )}
    </>
  );
}

function Profiles({ profiles, label }: { profiles: readonly Profile[]; label: string }) {
  return (
    <Table size="small" aria-label={label}>
      <TableHead>
        <TableRow>
          <TableCell>Profile</TableCell>
          <TableCell>Mostly</TableCell>
          <TableCell className={styles.number}>Files</TableCell>
          <TableCell className={styles.number}>Size</TableCell>
          <TableCell className={styles.number}>Last used</TableCell>
          <TableCell>Account</TableCell>
        </TableRow>
      </TableHead>
      <TableBody>
        {profiles.map((profile) => (
          <TableRow key={profile.path}>
            <TableCell>
              {profile.path.slice(1)}
              {profile.earlier && <span className={styles.standing}>previous system</span>}
            </TableCell>
            <TableCell>{mostly(profile)}</TableCell>
            <TableCell className={styles.number}>{countText(profile.files)}</TableCell>
            <TableCell className={styles.number} title={exactBytes(profile.bytes)}>
              {bytesText(profile.bytes)}
            </TableCell>
            <TableCell className={styles.number}>
              {dateText(profile.lastUsed === null ? null : new Date(profile.lastUsed), "UTC")}
            </TableCell>
            <TableCell>{profile.account}</TableCell>
          </TableRow>
        ))}
      </TableBody>
    </Table>
  );
}

const mostly = ({ kinds }: Profile) =>
  Object.entries(kinds)
    .filter(([, bytes]) => bytes > 0)
    .sort((a, b) => b[1] - a[1])
    .slice(0, MOST_KINDS)
    .map(([kind, bytes]) => `${KIND_WORDS[kind]?.toLowerCase() ?? kind} ${bytesText(bytes)}`)
    .join(", ");
