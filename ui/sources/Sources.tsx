"use client";

import Button from "@mui/material/Button";
import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableHead from "@mui/material/TableHead";
import TableRow from "@mui/material/TableRow";
import { useQuery } from "@tanstack/react-query";
import Link from "next/link";
import { Fragment, useMemo, useState } from "react";
import { formOf } from "@/server/passes/contract";
import type { Source } from "@/server/sources/contract";
import { useAddress } from "../data/use-address";
import { keys, useFinds, usePasses, useSources } from "../data/use-job-data";
import { Empty } from "../instruments/Empty";
import { Problem, problemText } from "../instruments/Problem";
import { bytesText, CONTAINER_WORDS, countText, exactBytes, FILE_SYSTEM_WORDS, offsetText, STANDING_WORDS } from "../instruments/words";
import { openPasses, useStart } from "../search/NotReadYet";
import { findOwner } from "./ChartStrip";
import { Homes } from "./Homes";
import { useVolumeReadings } from "./read-stretches";
import { Sets } from "./Sets";
import { Missing, SourceActions, SourceTitle } from "./SourceActions";
import { SourceBrowser } from "./SourceBrowser";
import { SourceChart } from "./SourceChart";
import { SourceTree } from "./SourceTree";
import styles from "./sources.module.css";
import { VolumeReading } from "./VolumeReading";

const TABLE_WORDS: Record<string, string> = { gpt: "GUID partition table", mbr: "boot record table", none: "no partition table" };

/** What a source is: of a backup file it is not said that its bytes are raw. */
function containerWords(container: string, isBackup: boolean): string {
  if (isBackup && container === "raw") return "Backup file or archive";
  if (isBackup && container === "split") return "Backup file or archive in parts";
  return CONTAINER_WORDS[container] ?? container;
}

/** What the job reads from. */
export function Sources({ jobId }: { jobId: number }) {
  const { data: sources, error } = useSources(jobId);
  const [address, change] = useAddress();
  const [browsing, setBrowsing] = useState(false);
  const also = (address.get("also") ?? "")
    .split("-")
    .map(Number)
    .filter((id) => sources?.some((source) => source.id === id));
  const chosen = sources?.find((source) => String(source.id) === address.get("source")) ?? sources?.[0];
  return (
    <div className={styles.page}>
      <section className={styles.list} aria-label="Sources">
        <div className={styles.listHead}>
          <h2>Read, never written</h2>
          <Button variant="outlined" onClick={() => setBrowsing(true)}>
            Add a source
          </Button>
        </div>
        <Problem>{problemText(error)}</Problem>
        {sources && sources.length > 0 && (
          <SourceTree
            key={sources.map((source) => source.id).join()}
            sources={sources}
            source={chosen?.id}
            volume={Number(address.get("volume")) || null}
            also={also}
            onChoose={(source, volume, others) =>
              change(
                { source: String(source), volume: volume === null ? null : String(volume), also: others.join("-") || null, at: null },
                true,
              )
            }
          />
        )}
      </section>
      <section className={styles.detail} aria-label="Structure">
        {chosen && also.length > 0 && sources && (
          <Several jobId={jobId} sources={sources.filter(({ id }) => id === chosen.id || also.includes(id))} />
        )}
        {chosen ? (
          <Detail key={chosen.id} jobId={jobId} source={chosen} sources={sources ?? []} />
        ) : (
          sources && (
            <Empty title="No source yet.">
              Add the client’s drive, or an image of it. It is opened for reading only; nothing is ever written to it.
            </Empty>
          )
        )}
      </section>
      {browsing && <SourceBrowser jobId={jobId} onClose={() => setBrowsing(false)} />}
    </div>
  );
}

/** What can be done with several sources at once. */
function Several({ jobId, sources }: { jobId: number; sources: readonly Source[] }) {
  const { data: passes = [] } = usePasses(jobId);
  const start = useStart(jobId);
  const open = openPasses(sources, passes).filter(({ source }) => source.connected);
  const button = (place: "known-places" | "file-record", words: string) => {
    const wanted = open.filter((each) => each.place === place);
    return (
      <Button
        variant="outlined"
        disabled={wanted.length === 0 || start.isPending}
        onClick={() => start.mutate(wanted.map(({ volume }) => ({ storeId: volume.id, place, options: {} })))}
      >
        {words} ({countText(wanted.length)})
      </Button>
    );
  };
  return (
    <section className={styles.several} aria-label="Chosen sources">
      <b>{countText(sources.length)} sources chosen</b>
      {button("known-places", "Look into their known places")}
      {button("file-record", "Read their records")}
      <Problem>{problemText(start.error)}</Problem>
    </section>
  );
}

/** A source and all that lie inside it. */
function withInside(source: Source, sources: readonly Source[]): Source[] {
  const on = new Set(source.volumes.map(({ id }) => id));
  const inside = sources.filter(({ parentStoreId }) => parentStoreId !== null && on.has(parentStoreId));
  return [source, ...inside.flatMap((each) => withInside(each, sources))];
}

function Detail({ jobId, source, sources }: { jobId: number; source: Source; sources: readonly Source[] }) {
  const { data: finds = [] } = useFinds(jobId);
  const read = useVolumeReadings(jobId);
  const [address, change] = useAddress();
  const at = /^\d+$/.test(address.get("at") ?? "") ? Number(address.get("at")) : null;
  const volume = source.volumes.find((each) => String(each.id) === address.get("volume"));
  const within = source.volumes.find((each) => at !== null && at >= each.offset && at < each.offset + each.length);
  const setPicked = (byte: number) => change({ at: String(byte) });
  const marks = useMemo(() => finds.find((each) => each.sourceId === source.id)?.at ?? [], [finds, source.id]);
  const folder = source.container === "folder";
  const backup = source.volumes.length > 0 && source.volumes.every(({ filesystem }) => formOf(source.container, filesystem) === "backup");
  const searched = withInside(source, sources).some(({ volumes }) => volumes.some(({ id }) => read.has(id)));
  return (
    <>
      <SourceTitle jobId={jobId} source={source} />
      {!source.connected && <Missing jobId={jobId} source={source} />}
      {!folder && (
        <>
          <SourceChart jobId={jobId} source={source} read={read} finds={marks} focus={volume ?? null} at={at} onPick={setPicked} />
          <Picked jobId={jobId} sourceId={source.id} at={at} />
        </>
      )}
      <p style={{ margin: "0 0 6px", fontSize: 13 }}>
        {folder ? (
          "A folder of this bench: its files are read one by one, links are never followed. Deleted files need an image of the drive."
        ) : (
          <>
            {containerWords(source.container, backup)}, <span title={exactBytes(source.size)}>{bytesText(source.size)}</span>
            {backup ? "" : `, ${TABLE_WORDS[source.tableKind]}`}.
          </>
        )}
      </p>
      <Notes notes={source.notes} />
      {!folder && (
        <Table size="small" aria-label="Volumes">
          <TableHead>
            <TableRow>
              <TableCell>Volume</TableCell>
              <TableCell>File system</TableCell>
              <TableCell className={styles.number}>Begins at</TableCell>
              <TableCell className={styles.number}>Size</TableCell>
              <TableCell className={styles.number}>{backup ? "Can be followed" : "In use"}</TableCell>
              <TableCell className={styles.number}>{backup ? "Block" : "Cluster"}</TableCell>
              <TableCell className={styles.number}>Read</TableCell>
              <TableCell className={styles.number}>Finds</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {source.volumes.map((volume) => (
              <Fragment key={volume.id}>
                <TableRow
                  selected={volume === within || String(volume.id) === address.get("volume")}
                  {...(volume.notes.length > 0 ? { sx: { "& td": { borderBottom: 0, pb: 0 } } } : {})}
                >
                  <TableCell>
                    {volume.label ?? `volume ${volume.number}`}
                    {STANDING_WORDS[volume.standing] && <span className={styles.standing}>{STANDING_WORDS[volume.standing]}</span>}
                  </TableCell>
                  <TableCell>{volume.closed ? "encrypted" : FILE_SYSTEM_WORDS[volume.filesystem]}</TableCell>
                  <TableCell className={styles.number} sx={{ fontFamily: "var(--mono)", fontSize: 12 }} title={exactBytes(volume.offset)}>
                    {offsetText(volume.offset)}
                  </TableCell>
                  <TableCell className={styles.number} title={exactBytes(volume.length)}>
                    {bytesText(volume.length)}
                  </TableCell>
                  <TableCell className={styles.number}>{volume.usedBytes === null ? "–" : `${bytesText(volume.usedBytes)}`}</TableCell>
                  <TableCell className={styles.number}>{volume.clusterSize ? bytesText(volume.clusterSize) : "–"}</TableCell>
                  <TableCell className={styles.number}>{Math.round(100 * (read.get(volume.id)?.share ?? 0))} %</TableCell>
                  <TableCell className={styles.number}>
                    {countText(marks.filter((mark) => mark >= volume.offset && mark < volume.offset + volume.length).length)}
                  </TableCell>
                </TableRow>
                {volume.notes.length > 0 && (
                  <TableRow>
                    <TableCell colSpan={8} sx={{ pt: 0 }}>
                      <Notes notes={volume.notes} />
                    </TableCell>
                  </TableRow>
                )}
              </Fragment>
            ))}
          </TableBody>
        </Table>
      )}
      {(volume ? [volume] : source.volumes).map((each) => (
        <Fragment key={each.id}>
          <VolumeReading volume={each} several={source.volumes.length > 1} />
          <Sets jobId={jobId} volume={each} several={source.volumes.length > 1} />
        </Fragment>
      ))}
      <Homes jobId={jobId} source={source} />
      <div style={{ display: "flex", gap: 8, marginTop: 18 }}>
        <Button component={Link} href={`/jobs/${jobId}/search`} variant="contained">
          Go on to the search
        </Button>
        <SourceActions jobId={jobId} source={source} searched={searched} />
      </div>
    </>
  );
}

/** What stands at the byte chosen on the chart. */
function Picked({ jobId, sourceId, at }: { jobId: number; sourceId: number; at: number | null }) {
  const { data, error } = useQuery({
    queryKey: [...keys.of(jobId, "owner"), sourceId, at],
    queryFn: () => findOwner(jobId, sourceId, at ?? 0),
    enabled: at !== null,
  });
  if (at === null) return null;
  return (
    <p style={{ margin: "0 0 8px", fontSize: 13 }} role="status">
      <span style={{ fontFamily: "var(--mono)", fontSize: 12 }}>{offsetText(at)}</span>{" "}
      {error ? (
        problemText(error)
      ) : data === undefined ? (
        ""
      ) : data === null ? (
        "belongs to no file that was found."
      ) : (
        <>
          belongs to{" "}
          <Link
            href={`/jobs/${jobId}/items?item=${data.itemId}&copy=${data.copyId}${data.live ? "&show=all" : ""}`}
            style={{ color: "inherit" }}
          >
            {data.folder.slice(1)}/{data.name}
          </Link>
          {data.live ? ", a live file." : ", a lost file."}
        </>
      )}
    </p>
  );
}

function Notes({ notes }: { notes: readonly string[] }) {
  if (notes.length === 0) return null;
  return (
    <ul className={styles.notes}>
      {notes.map((note) => (
        <li key={note}>{note}</li>
      ))}
    </ul>
  );
}
