import { existsSync } from "node:fs";
import { parentPort } from "node:worker_threads";
import type { ByteSource } from "../core/bytes/byte-source";
import { LayoutSource } from "../core/bytes/layout";
import type { Range } from "../core/bytes/range-set";
import { bytesIn, type Gaps, gapsOf, OwnBytes } from "../core/restore/gaps";
import { type Conflict, hashFile, isTaken, type Published, publish, type Staged, stage, targets } from "../io/deliver";
import { openBytes } from "../io/open-searchable";
import type { RestoreWork } from "../server/restores/slice";

/** What the thread is asked: write files under working names and propose a name for each, or give them their names. */
export type RestoreRequest =
  | {
      readonly ask: "stage";
      readonly root: string;
      readonly asFound: boolean;
      readonly works: readonly (RestoreWork & { readonly workingName: string })[];
      /** Names this restore has given since the last request. */
      readonly given: readonly string[];
    }
  | {
      readonly ask: "publish";
      readonly files: readonly { readonly staged: Staged; readonly target: string; readonly conflict: Conflict }[];
    };

/** What came of staging one file. */
export type StagedFile =
  | { readonly staged: Staged; readonly gaps: Gaps; readonly target: string }
  | { readonly named: { readonly output: string; readonly sha256: string; readonly gaps: Gaps | null; readonly leftAt: number | null } }
  | { readonly skipped: true }
  | { readonly problem: string };
/** Answer to `stage`: what came of each file, and what of the sources could not be read, beside what was known. Disk byte offsets. */
export interface Staging {
  readonly files: readonly StagedFile[];
  readonly bad: readonly (readonly [sourceId: number, ranges: readonly Range[]])[];
}
export type PublishedFile = { readonly published: Published | null } | { readonly problem: string };

/** Disks that were opened, by their source, with how much of each is known to be unreadable. */
const open = new Map<number, { readonly disk: ByteSource; known: number }>();
/** Names this restore has given, folded: on many devices names that differ in case alone are one. */
const given = new Set<string>();
const fold = (path: string) => path.normalize("NFC").toLowerCase();

function diskOf(work: RestoreWork): ByteSource {
  const kept = open.get(work.sourceId);
  if (kept) return kept.disk;
  const { disk } = openBytes(work, null);
  open.set(work.sourceId, { disk, known: bytesIn(work.bad) });
  return disk;
}

/** What could not be read since this was last asked. */
function newlyBad(): [sourceId: number, ranges: readonly Range[]][] {
  return [...open].flatMap(([sourceId, one]) => {
    const ranges = one.disk.unreadable(0, one.disk.size);
    const total = bytesIn(ranges);
    if (total <= one.known) return [];
    one.known = total;
    return [[sourceId, ranges] as [number, readonly Range[]]];
  });
}

function stageOne(work: RestoreWork & { workingName: string }, root: string, asFound: boolean): StagedFile {
  const { begun, components, conflict } = work;
  // An earlier worker was ended between giving the file its name and noting that.
  if (begun && existsSync(begun.output) && hashFile(begun.output) === begun.sha256) return { named: { ...begun, leftAt: null } };
  if (conflict === "skip" && isTaken(root, components) && !isGiven(root, components)) return { skipped: true };
  // A disk is kept open for the next file; files of a folder are opened one by one.
  const own = work.file === null ? null : openBytes(work, work.file);
  try {
    if (own && own.disk.size !== work.layout.size)
      return { problem: `It has ${own.disk.size} bytes now and had ${work.layout.size} when it was read: read the folder again.` };
    const content = new LayoutSource(own?.disk ?? diskOf(work), work.layout);
    const written = stage(asFound ? content : new OwnBytes(content), root, components, {
      workingName: work.workingName,
      modified: work.modified,
    });
    const target = nextTarget(written, conflict);
    return target ? { staged: written, gaps: gapsOf(content), target } : { problem: "No free name was found at the destination." };
  } finally {
    own?.close();
  }
}

function isGiven(root: string, components: readonly string[]): boolean {
  return given.has(fold([root, ...components].join("/")));
}

/** The first name that is free, and marks it as given. */
function nextTarget(staged: Staged, conflict: Conflict): string | null {
  for (const target of targets(staged, conflict, (path) => given.has(fold(path)))) {
    // A number is only put behind a name for a file that must not be touched.
    if ((conflict === "keep-both" || given.has(fold(`${staged.folder}/${staged.name}`))) && existsSync(target)) continue;
    given.add(fold(target));
    return target;
  }
  return null;
}

function inWords<T>(use: () => T): T | { problem: string } {
  try {
    return use();
  } catch (error) {
    return { problem: wordsOf(error as NodeJS.ErrnoException) };
  }
}

/** What the system says in codes (errno(3)), in a sentence. */
const SENTENCES: Readonly<Record<string, string>> = {
  ENOSPC: "The destination is full: make room there, or choose another device, and try again.",
  EDQUOT: "The destination has no more room for this user: make room there, and try again.",
  EROFS: "The destination can only be read: choose another device, or mount it for writing, and try again.",
  EACCES: "This user may not write there: change the folder’s permissions, or choose another, and try again.",
  EFBIG: "The destination’s file system does not take files of this size: choose another device.",
  ENAMETOOLONG: "Its name or folder is too long for the destination.",
};
const wordsOf = ({ code, message }: NodeJS.ErrnoException) => SENTENCES[code ?? ""] ?? message;

parentPort?.on("message", (request: RestoreRequest) => {
  if (request.ask === "stage") {
    for (const path of request.given) given.add(fold(path));
    const files = request.works.map((work) => inWords(() => stageOne(work, request.root, request.asFound)));
    parentPort?.postMessage({ files, bad: newlyBad() } satisfies Staging);
  } else {
    const files = request.files.map(
      ({ staged, target, conflict }): PublishedFile => inWords(() => ({ published: publish(staged, target, conflict) })),
    );
    parentPort?.postMessage(files);
  }
});
