import { createHash } from "node:crypto";
import { readBytes } from "../../core/bytes/byte-source";
import { type CopyFacts, factsOf } from "../../core/copies/facts";
import { identify, runSummary } from "../../core/formats/registry";
import { database } from "../database/connection";
import { judgeContent } from "../items/judge-content";
import { findStoredCopy } from "../items/queries";
import type { Piece } from "../pieces/contract";
import { keepPieces, lookLongerFor } from "../pieces/keep";
import { lookAtPieces, pictureOfPieces } from "../pieces/pieces";
import { archiveOf } from "../previews/archives";
import { storedCopy, withContent } from "../previews/content";
import { previewFacts } from "../previews/facts";
import { drawnThumbnail, picturePreview } from "../previews/pictures";
import { beginningOf, bytesOf, outlineFor, ownBytesOf } from "../previews/raw";
import { settingsOf } from "../previews/settings";
import { tablesOf } from "../previews/tables";
import { documentText, textOf } from "../previews/texts";
import { recordCandidatesOf } from "../records/candidates";
import type { EntriesQuery, EntryExport, RecordsQuery, Together } from "../records/contract";
import { entriesOf } from "../records/entries";
import { exportEntries } from "../records/exports";
import { joinedDatabase } from "../records/joined";
import { mentionedFilesOf } from "../records/mentioned";
import { recordsAsCsv, recordsOf } from "../records/read";
import { lookAtRepair, planRepair, repairedPicture, writeRepaired } from "../repairs/repairs";
import type { RestorePlan } from "../restores/contract";
import { readDelivered } from "../restores/delivery";
import { lookAtRestored } from "../restores/since";
import { compareWithPresent, surveyTargets } from "../restores/survey";
import { inspectSource } from "../sources/inspect";
import { listFolders } from "../sources/queries";
import { browse } from "../sources/source-folders";
import { usedRuns } from "../sources/used-runs";
import { inspectWithin } from "../sources/within";

const db = () => database().db;
const copyOf = (copyId: number) => storedCopy(db(), copyId);
const HASHED_AT_ONCE = 1 << 20;

/**
 * Everything that opens a client's bytes, or may take long: it runs in processes of its own (`pool.ts`), by name, with values that can be
 * sent. Nothing here runs in the web server's or the worker's own process.
 */
export const tasks = {
  form: async (copyId: number) => previewFacts(await copyOf(copyId)),
  text: async (copyId: number, encoding: string | null) => textOf(await copyOf(copyId), encoding),
  document: async (copyId: number) => documentText(await copyOf(copyId)),
  tables: async (copyId: number, rows: "shown" | "compared") => tablesOf(await copyOf(copyId), rows),
  records: async (copyId: number, query: RecordsQuery) => recordsOf(db(), await copyOf(copyId), query),
  recordsCsv: async (copyId: number, query: RecordsQuery) => recordsAsCsv(db(), await copyOf(copyId), query),
  entries: async (copyId: number, query: EntriesQuery) => entriesOf(db(), await copyOf(copyId), query),
  exportEntries: async (copyId: number, query: EntriesQuery, form: EntryExport) => exportEntries(db(), await copyOf(copyId), query, form),
  mentionedFiles: async (copyId: number, together: Together) => mentionedFilesOf(db(), await copyOf(copyId), together),
  recordCandidates: async (copyId: number) => recordCandidatesOf(db(), await copyOf(copyId)),
  joinedDatabase: (jobId: number, copyIds: readonly number[]) => joinedDatabase(db(), jobId, copyIds),
  settings: async (copyId: number) => settingsOf(await copyOf(copyId)),
  archive: async (copyId: number) => archiveOf(await copyOf(copyId)),
  outline: async (copyId: number) => outlineFor(await copyOf(copyId)),
  bytes: async (copyId: number, at: number, length: number) => bytesOf(await copyOf(copyId), at, length),
  ownBytes: async (copyId: number, at: number, length: number) => ownBytesOf(await copyOf(copyId), at, length),
  picture: async (copyId: number, longest: number) => picturePreview(await copyOf(copyId), longest),
  thumbnail: async (copyId: number) => drawnThumbnail(await copyOf(copyId)),
  repair: (copyId: number) => lookAtRepair(db(), copyId),
  repairedPicture: (copyId: number) => repairedPicture(db(), copyId),
  pieces: (copyId: number, pieces: readonly Piece[] | null) => lookAtPieces(db(), copyId, pieces),
  picturePieces: (copyId: number, pieces: readonly Piece[]) => pictureOfPieces(db(), copyId, pieces),
  keepPieces: (copyId: number, pieces: readonly Piece[]) => keepPieces(database().db, copyId, pieces),
  lookLonger: (copyId: number) => lookLongerFor(database().db, copyId),
  planRepair: (copyId: number) => planRepair(db(), copyId),
  writeRepaired: (copyId: number) => writeRepaired(db(), copyId),
  /** The id of the format a content begins with, for players. */
  begins: async (copyId: number) => beginningOf(await copyOf(copyId)),
  /** What a content says of itself: {} where it says nothing; null where it cannot be read now. */
  facts: async (copyId: number): Promise<CopyFacts | null> => {
    const copy = await findStoredCopy(db(), copyId);
    if (!copy?.layout) return null;
    return withContent(copy, (content) => {
      const format = identify(content, copy.name);
      if (!format) return {};
      // First words serve to name what has no name; here they would only be kept twice.
      const { text: _, ...facts } = factsOf(runSummary(format, content));
      return facts;
    });
  },
  /** SHA-256 of a content, hexadecimal; null where it cannot be read. */
  hash: async (copyId: number): Promise<string | null> => {
    const copy = await findStoredCopy(db(), copyId);
    if (!copy?.layout) return null;
    return withContent(copy, (content) => {
      const hash = createHash("sha256");
      for (let at = 0; at < content.size; at += HASHED_AT_ONCE)
        hash.update(readBytes(content, at, Math.min(HASHED_AT_ONCE, content.size - at)));
      // Bytes that came as zeros because the drive refused them are nobody's content.
      return content.unreadable(0, content.size).length > 0 ? null : hash.digest("hex");
    });
  },
  /** Reads a restored file again as it is now; null: it is not there. */
  readDelivered: async (path: string) => readDelivered(path),
  judge: (copyId: number) => judgeContent(db(), copyId),
  survey: (jobId: number, plan: RestorePlan) => surveyTargets(db(), jobId, plan),
  lookAtRestored: () => lookAtRestored(db()),
  samePresent: (copyId: number, stream: number | null, path: string) => compareWithPresent(db(), copyId, stream, path),
  inspect: inspectSource,
  inspectWithin: (copyId: number) => inspectWithin(db(), copyId),
  browse: async (path: string | null) => browse(path, await listFolders(db())),
  usedRuns: (jobId: number, sourceId: number, start: number, end: number) => usedRuns(db(), jobId, sourceId, start, end),
} as const;
export type Tasks = typeof tasks;
