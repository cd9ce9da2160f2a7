import { basename, join } from "node:path";
import { parentPort } from "node:worker_threads";
import type { ByteSource } from "../core/bytes/byte-source";
import { MemorySource } from "../core/bytes/byte-source";
import { type Layout, LayoutSource } from "../core/bytes/layout";
import type { Range } from "../core/bytes/range-set";
import type { Carried, FileFacts } from "../core/restore/carried";
import { COMPANION_HEAD, COMPANIONS, hasCompanions } from "../core/restore/companions";
import { bytesIn, type Gaps, gapsOf, hasGaps, NO_GAPS, OwnBytes } from "../core/restore/gaps";
import { describeNotCarried } from "../core/restore/left-behind";
import { fold } from "../core/restore/names";
import { takenFor } from "../core/restore/wishes";
import { isDatabase, standsAlone } from "../io/companions";
import type { Delivery, Published, Staged } from "../io/deliver";
import { namesFor, type Taken } from "../io/give-name";
import { hashContent } from "../io/hash-content";
import { openBytes } from "../io/open-searchable";
import { type ReadBack, readHead } from "../io/read-back";
import { readStreamAttributes } from "../io/stream-attributes";
import { describeWriteError, stopsWriting, type WritingStop } from "../io/system-errors";
import { type BagFacts, closeBag, type PayloadFile } from "../io/write-bag";
import { logReaderFaults } from "../server/log/reader-faults";
import { type Destination, openDelivery, refusal } from "../server/restores/delivery";
import type { RestoreWork } from "../server/restores/works";

logReaderFaults();

/** What must not be written to: the job's images and drives, and its folders. */
export interface Guarded {
  readonly images: readonly string[];
  readonly folders: readonly string[];
}

/**
 * What the thread is asked: hold the destination, write files under working names and propose a name for each, give them their names,
 * or let go of the destination.
 */
export type RestoreRequest =
  | { readonly ask: "open"; readonly to: Destination; readonly mark: string; readonly guarded: Guarded }
  | {
      readonly ask: "stage";
      readonly asFound: boolean;
      readonly guarded: Guarded;
      readonly works: readonly StagedWork[];
      /** Names this restore has given since the last request. */
      readonly given: readonly string[];
    }
  | {
      readonly ask: "publish";
      readonly guarded: Guarded;
      readonly files: readonly { readonly staged: Staged; readonly name: string; readonly conflict: Taken }[];
    }
  | { readonly ask: "list"; readonly guarded: Guarded; readonly name: string; readonly text: string }
  | {
      readonly ask: "bag";
      readonly guarded: Guarded;
      readonly folder: readonly string[];
      readonly payload: readonly PayloadFile[];
      readonly facts: BagFacts;
    }
  | { readonly ask: "discard"; readonly files: readonly Staged[] }
  | { readonly ask: "close" };

/** Answer to any request: nothing may be written there (any more), in words; and whether it can be later. */
export interface Refused {
  readonly refused: string;
  readonly stop: WritingStop | null;
}

/** A file to be written, under which working name; with the layout of its repaired form over its content, where that is to be written. */
type StagedWork = RestoreWork & { readonly workingName: string; readonly repaired?: Layout };

/** A file that had got its name already. */
export interface Named extends ReadBack {
  readonly output: string;
  readonly gaps: Gaps | null;
  readonly leftAt: number | null;
  /** What of it does not stand there, in words. */
  readonly leftBehind: readonly string[];
  readonly problem?: string;
}
/** A file that is written, and ready to get its name. */
export interface Ready {
  readonly staged: Staged;
  readonly gaps: Gaps;
  readonly name: string;
  readonly output: string;
  /** What of it does not go along, in words. */
  readonly leftBehind: readonly string[];
}
/** What came of staging one file. */
export type StagedFile =
  | Ready
  | { readonly named: Named }
  /** The same bytes are there already. */
  | { readonly same: Named }
  | { readonly skipped: true }
  | Failed;
/** A file that could not be written, and what stops all writing with it. */
export interface Failed {
  readonly problem: string;
  readonly stop: WritingStop | null;
}
/** Answer to `stage`: what came of each file, and what of the sources could not be read, beside what was known. Disk byte offsets. */
export interface Staging {
  readonly files: readonly StagedFile[];
  readonly bad: readonly (readonly [sourceId: number, ranges: readonly Range[]])[];
}
export type PublishedFile = { readonly published: (Published & { readonly problem?: string }) | null } | Failed;

/** Disks that were opened, by their source, with how much of each is known to be unreadable. */
const open = new Map<number, { readonly disk: ByteSource; known: number }>();
/** Names this restore has given, folded: on many devices names that differ in case alone are one. */
const given = new Set<string>();
/** Working names of files that are databases. */
const databases = new Set<string>();

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

/** Uses the bytes a file stands in. A disk is kept open for the next file; files of a folder are opened one by one. */
function withBytes<T>(work: RestoreWork, use: (disk: ByteSource) => T): T {
  const own = work.file === null ? null : openBytes(work, work.file);
  try {
    return use(own?.disk ?? diskOf(work));
  } finally {
    own?.close();
  }
}

const factsOf = (work: RestoreWork, disk: ByteSource): FileFacts => ({
  ...work.facts,
  attributes: readStreamAttributes(disk, work.streams),
});

/** What of a file does not go along, in words. */
const leftBehindOf = (work: RestoreWork, facts: FileFacts, carried: Carried): string[] => [
  ...work.leftBehind,
  ...describeNotCarried(
    facts,
    carried,
    work.streams.map(({ name }) => name),
  ),
];

/** A file under its working name, with what it is to carry. */
interface Uncarried extends Omit<Ready, "leftBehind"> {
  readonly facts: FileFacts;
}

function stageOne(delivery: Delivery, work: StagedWork, asFound: boolean): Exclude<StagedFile, Ready> | Uncarried {
  const { begun, components } = work;
  const conflict = takenFor(work.conflict);
  // An earlier worker was ended between giving the file its name and noting that.
  const there = begun && delivery.hashOf(begun.output);
  if (there && there.sha256 === begun.sha256) {
    // It may have been ended before the logs of what this one replaced were put aside.
    const logs =
      conflict === "replace" && hasCompanions(readHead(begun.output, COMPANION_HEAD))
        ? putLogsAside(delivery, components.slice(0, -1), basename(begun.output))
        : [];
    const facts = work.streams.length > 0 ? withBytes(work, (disk) => factsOf(work, disk)) : { ...work.facts, attributes: [] };
    return {
      named: {
        ...there,
        output: begun.output,
        gaps: begun.gaps,
        leftAt: null,
        leftBehind: leftBehindOf(work, facts, delivery.carriedBy(begun.output, facts)),
        ...(logs.length > 0 ? { problem: describeAside(logs) } : {}),
      },
    };
  }
  if (conflict === "skip" && delivery.isTaken(components) && !isGiven(delivery, components)) return { skipped: true };
  return withBytes(work, (disk) => {
    const content = new LayoutSource(disk, work.layout);
    // What is repaired was worked out without the bytes of other files.
    const bytes = work.repaired ? new LayoutSource(new OwnBytes(content), work.repaired) : asFound ? content : new OwnBytes(content);
    // What is missing in a file shows in what is made of it; its words say so.
    const gapsNow = () => (work.repaired ? NO_GAPS : gapsOf(content));
    const same = work.conflict === "compare" && !isGiven(delivery, components) ? delivery.sizeOf(components) === bytes.size : false;
    if (same) {
      const output = join(delivery.path, ...components);
      const there = delivery.hashOf(output);
      // The content is read first: what of it cannot be read shows in its gaps then.
      if (there && hashContent(bytes) === there.sha256) {
        const gaps = gapsNow();
        given.add(fold(output));
        const facts = factsOf(work, disk);
        const leftBehind = leftBehindOf(work, facts, delivery.carriedBy(output, facts));
        return { same: { ...there, output, gaps: hasGaps(gaps) ? gaps : null, leftAt: delivery.leftAt(components), leftBehind } };
      }
    }
    const staged = delivery.stage(bytes, components, { workingName: work.workingName });
    const database = isDatabase(bytes);
    if (database) databases.add(staged.working);
    const isFree = (candidate: string) =>
      standsAlone(delivery, staged.folders, candidate, database, (components) => isGiven(delivery, components));
    const name = work.second ? ownName(delivery, staged, conflict) : nextName(delivery, staged, conflict, isFree);
    return name === null
      ? { problem: work.second ? SECOND_TAKEN : database ? LOGS_THERE : "No free name was found at the destination.", stop: null }
      : { staged, gaps: gapsNow(), name, output: delivery.outputOf(staged, name), facts: factsOf(work, disk) };
  });
}

/** Stages files one by one, then gives all of them what they carry beside their content. */
function stageAll(delivery: Delivery, works: readonly StagedWork[], asFound: boolean): StagedFile[] {
  const found = works.map((work) => inWords(delivery, () => stageOne(delivery, work, asFound)));
  const ready = found.filter((file): file is Uncarried => "staged" in file);
  const carried = delivery.carry(ready);
  return found.map((file, index): StagedFile => {
    if (!("staged" in file)) return file;
    const { facts, ...rest } = file;
    return { ...rest, leftBehind: leftBehindOf(works[index] as StagedWork, facts, carried[ready.indexOf(file)] as Carried) };
  });
}

function isGiven(delivery: Delivery, components: readonly string[]): boolean {
  return given.has(fold([delivery.path, ...components].join("/")));
}

const LOGS_THERE = "No name is free: a log of another database stands there under its name, and would be applied to it.";
const SECOND_TAKEN = "A file of that name is there already, and under another one it would not belong to its first file.";

/** The name a second file must have, marked as given; null: it is taken, and not to be replaced. */
function ownName(delivery: Delivery, staged: Staged, conflict: Taken): string | null {
  const output = fold(delivery.outputOf(staged, staged.name));
  if (given.has(output) || (conflict !== "replace" && delivery.isTaken([...staged.folders, staged.name]))) return null;
  given.add(output);
  return staged.name;
}

/** Puts aside what another database has left under the name of one that is written: it would be applied to it. */
function putLogsAside(delivery: Delivery, folders: readonly string[], name: string): string[] {
  return COMPANIONS.map((suffix) => `${name}${suffix}`).flatMap((log) => {
    const aside = isGiven(delivery, [...folders, log]) ? null : delivery.moveAside(folders, log);
    return aside ? [aside] : [];
  });
}

const describeAside = (logs: readonly string[]) =>
  `The logs of the replaced database are kept as ${logs.map((log) => `“${log}”`).join(" and ")}.`;

/** The first name that is free, and marks it as given. @param isFree whether nothing else there would be mixed up with a file of that name */
function nextName(delivery: Delivery, staged: Staged, conflict: Taken, isFree: (name: string) => boolean): string | null {
  const isNameGiven = (name: string) => given.has(fold(delivery.outputOf(staged, name)));
  for (const name of namesFor(staged.name, conflict, isNameGiven)) {
    // A number is only put behind a name for a file that must not be touched.
    if ((conflict === "keep-both" || isNameGiven(staged.name)) && delivery.isTaken([...staged.folders, name])) continue;
    // What is replaced has its logs put aside with it.
    if (conflict !== "replace" && !isFree(name)) continue;
    given.add(fold(delivery.outputOf(staged, name)));
    return name;
  }
  return null;
}

function inWords<T>(delivery: Delivery, use: () => T): T | Failed {
  try {
    return use();
  } catch (error) {
    const stop = stopsWriting(error);
    // It may be the source that is gone.
    return { problem: describeWriteError(error), stop: stop === "gone" && !delivery.isGone() ? null : stop };
  }
}

let held: Delivery | null = null;

/** Why nothing may be written to the held destination now; null: it may. */
function refusalNow(delivery: Delivery, { images, folders }: Guarded): Refused | null {
  if (delivery.isGone()) return { refused: describeWriteError({ code: "ENOENT" }), stop: "gone" };
  const refused = delivery.isStill() ? refusal(delivery.path, images, folders) : exchanged(delivery);
  return refused === null ? null : { refused, stop: null };
}

const exchanged = (delivery: Delivery) =>
  `The folder “${delivery.path}” was exchanged, moved or removed while it was written to. See what is there, and try again.`;

function close(): void {
  if (held?.isGone()) held.letGo();
  else held?.close();
  held = null;
}

function answer(request: RestoreRequest): unknown {
  if (request.ask === "close") return close();
  if (request.ask === "open") {
    close();
    held = openDelivery(request.to, request.mark).distinguish((path) => given.has(fold(path)));
    const refused = refusalNow(held, request.guarded);
    if (refused) close();
    return refused;
  }
  const delivery = held as Delivery;
  if (request.ask === "discard") {
    for (const staged of request.files) delivery.discard(staged);
    return null;
  }
  const refused = refusalNow(delivery, request.guarded);
  if (refused) return refused;
  if (request.ask === "list") {
    delivery.deliver(new MemorySource(Buffer.from(request.text)), [request.name], { conflict: "keep-both" });
    return null;
  }
  if (request.ask === "bag") {
    closeBag(delivery, request.folder, request.payload, request.facts);
    return null;
  }
  if (request.ask === "stage") {
    for (const path of request.given) given.add(fold(path));
    return { files: stageAll(delivery, request.works, request.asFound), bad: newlyBad() } satisfies Staging;
  }
  const files = request.files.map(
    ({ staged, name, conflict }): PublishedFile =>
      inWords(delivery, () => {
        const published = delivery.publish(staged, name, conflict);
        // Only then: a database that stays as it is keeps its logs.
        const replacesDatabase = published && conflict === "replace" && databases.has(staged.working);
        const logs = replacesDatabase ? putLogsAside(delivery, staged.folders, name) : [];
        return { published: published && logs.length > 0 ? { ...published, problem: describeAside(logs) } : published };
      }),
  );
  delivery.sync();
  return files;
}

parentPort?.on("message", (request: RestoreRequest) => {
  try {
    parentPort?.postMessage(answer(request) ?? null);
  } catch (error) {
    const stop = stopsWriting(error);
    const refused = describeWriteError(error);
    // What was never held cannot be known when it comes back.
    parentPort?.postMessage({ refused, stop: stop === "gone" && !held?.isGone() ? null : stop } satisfies Refused);
  }
});
