import type { ByteSource } from "../core/bytes/byte-source";
import type { Copy } from "../core/copies/copy";
import { leftoversPass } from "../core/copies/file-records-pass";
import { type FileRecord, type FileSystem, FileSystemError } from "../core/filesystems/file-record";
import { copyInTree } from "../core/places/copy-in-tree";
import type { FileTree } from "../core/places/file-tree";
import type { VolumeReport } from "../core/volumes/inspect";
import { openSearchable } from "../io/open-searchable";
import { type DiskAt, openSource } from "../io/open-source";
import { openStore } from "../io/open-store";
import { SourceError } from "../io/source-error";
import { findStore, listStores, type Store } from "../io/stores";
import { momentOf } from "./moment";
import type { Options } from "./options";
import { flush, oneSource, say } from "./output";
import { rangeOf } from "./range";
import { EXIT, Usage } from "./usage";

/** A tree of files that was chosen, opened. */
export interface Chosen {
  /** The number of its volume; of others 0. */
  readonly number: number;
  readonly report: VolumeReport | null;
  readonly volume: FileSystem;
  readonly tree: FileTree;
  readonly disk: ByteSource;
  /** Its store, where it was chosen as one. */
  readonly store: Store | null;
  /** What distinguishes it from the others that were chosen along, for the names of folders; null: it was chosen alone. */
  readonly folder: string | null;
}

type Choice = Pick<Options, "volume" | "beside" | "store" | "as-of">;

/** Which disk is meant, and which volumes of it: the one numbered, that of a store, or all. */
export interface WantedVolumes {
  readonly disk: DiskAt;
  readonly is: (volume: VolumeReport) => boolean;
  /** Whether one volume was named, so that it is a problem when it cannot be read. */
  readonly named: boolean;
  readonly missing: string;
}

/** Says which disk and volumes are meant by a call. @throws Usage when there is no such store, or both ways of choosing are used */
export function chooseVolumes(path: string, { volume, beside, store: id }: Choice): WantedVolumes {
  if (volume !== undefined && !/^\d+$/.test(volume)) throw new Usage(`--volume takes a number from \`inspect\`, not “${volume}”.`);
  const missing = `There is no volume ${volume} in ${path}.`;
  const is = (each: VolumeReport) => volume === undefined || each.volume === Number(volume);
  if (id === undefined) return { disk: { sourcePath: path, beside }, is, named: volume !== undefined, missing };
  const { disk, volume: inside } = storeOf(path, beside, id);
  if (!inside) return { disk, is, named: volume !== undefined, missing };
  if (volume !== undefined) throw new Usage("The store is a volume already: leave --volume out.");
  const isInside = (each: VolumeReport) =>
    each.offset === inside.offset && each.filesystem === inside.filesystem && each.view === inside.view;
  return { disk, is: isInside, named: true, missing };
}

/** Finds a store of a source by its id. @throws Usage when there is none */
function storeOf(path: string, beside: readonly string[] | undefined, id: string): Store {
  const store = findStore({ sourcePath: path, beside }, id);
  if (!store) throw new Usage(`There is no store “${id}” in ${path}. \`stores ${path} --deep\` lists them.`);
  if (store.closed !== null) throw new SourceError(store.closed);
  return store;
}

/** Gives the trees that are meant by a call, one after the other, each to be closed before the next. */
function* wantedTrees(
  path: string,
  options: Choice,
): Generator<{ open(): Chosen & { close(): void }; words: string; closed: string | null; named: boolean }, void, void> {
  if (options.store !== undefined && options["as-of"] !== undefined) throw new Usage("Give a store or a moment, not both.");
  if (options["as-of"] !== undefined) {
    const stores = storesAsOf(path, options.beside, momentOf(options["as-of"]));
    for (const store of stores)
      yield { open: () => openedStore(store, stores.length > 1 ? folderOf(store) : null), words: store.id, closed: null, named: true };
    return;
  }
  if (options.store !== undefined) {
    const store = storeOf(path, options.beside, options.store);
    if (store.kind !== "image") {
      if (options.volume !== undefined) throw new Usage("The store is a volume already: leave --volume out.");
      yield { open: () => openedStore(store, null), words: store.id, closed: null, named: true };
      return;
    }
  }
  const { disk, is, named, missing } = chooseVolumes(path, options);
  const source = openSource(disk);
  const reports = source.report.volumes.filter(is);
  source.close();
  if (reports.length === 0) throw new Usage(missing);
  const distinct = new Set(reports.map(ownerOf)).size > 1;
  for (const report of reports)
    yield {
      open: () => ({
        ...openSearchable(disk, report),
        number: report.volume,
        report,
        store: null,
        folder: distinct ? `volume-${reports.find((each) => ownerOf(each) === ownerOf(report))?.volume}` : null,
      }),
      words: `Volume ${report.volume}`,
      closed: report.closed,
      named: named || report.filesystem !== "unknown" || report.closed !== null,
    };
}

/** What the tree of a volume belongs to: the volumes that make up one drive have parts of the same tree. */
const ownerOf = ({ identity, volume }: VolumeReport): string => identity?.drive ?? `volume ${volume}`;

function openedStore(store: Store, folder: string | null) {
  return { ...openStore(store), number: store.volume?.volume ?? 0, report: store.volume, store, folder };
}

/** The newest states of all sets that are not later than a moment. @throws Usage when there is none */
function storesAsOf(path: string, beside: readonly string[] | undefined, moment: number): Store[] {
  const newest = new Map<string, Store[]>();
  for (const store of listStores({ sourcePath: path, beside }, true)) {
    if (store.set === null || store.asOf === null || store.asOf > moment || store.closed !== null || store.kind === "image") continue;
    const before = newest.get(store.set)?.[0]?.asOf ?? Number.NEGATIVE_INFINITY;
    if (store.asOf === before) newest.get(store.set)?.push(store);
    else if (store.asOf > before) newest.set(store.set, [store]);
  }
  if (newest.size === 0) throw new Usage(`Nothing in ${path} tells how it was then: \`stores ${path} --deep\` lists the states there are.`);
  return [...newest.values()].flat();
}

/** A name for the folder of a state that is restored beside those of other sets. */
const folderOf = ({ label, machine, user, asOf, kind }: Store): string =>
  [machine, user, label ?? kind, asOf === null ? null : new Date(asOf).toISOString().slice(0, 10)]
    .filter(Boolean)
    .join(" ")
    .replaceAll("/", "_");

/** Opens what is meant by a call, one tree after the other, and calls `use` with each that can be read. @returns the exit code */
export function withChosen(positionals: readonly string[], options: Choice, use: (chosen: Chosen) => boolean): number {
  let [problems, read] = [false, false];
  try {
    for (const { open, words, closed, named } of wantedTrees(oneSource(positionals), options)) {
      let opened: Chosen & { close(): void };
      try {
        opened = open();
      } catch (error) {
        if (!(error instanceof FileSystemError)) throw error;
        say(`${words}: ${closed ?? error.message}`);
        problems ||= named;
        continue;
      }
      read = true;
      try {
        if (use(opened)) problems = true;
      } finally {
        opened.close();
      }
    }
  } finally {
    flush();
  }
  if (!read) return EXIT.unreadable;
  return problems ? EXIT.problems : EXIT.done;
}

/** A copy with the record it was made of, by which its content is opened. */
export interface CopyAt {
  readonly copy: Copy;
  readonly record: FileRecord | null;
}

const STEP = 512;

/**
 * All copies in a tree: those its records describe, then (unless asked otherwise) what is left over of those before. Of a backup file: what
 * the light reading gives, or the thorough one of all or a part of it.
 * @throws Usage when a part is asked for of what is no backup file
 */
export function* copiesOf(
  { volume, tree, disk }: Chosen,
  options: Pick<Options, "records-only" | "thorough" | "range">,
): Generator<CopyAt, void, void> {
  if (options.range !== undefined && !volume.readThorough)
    throw new Usage("--range is for backup files and archives, and for `sweep`: the records of a volume belong to all of it.");
  if (volume.readThorough && (options.thorough || options.range !== undefined)) {
    const part = rangeOf(options.range, { start: 0, end: disk.size });
    for (const { records } of volume.readThorough(null, STEP, part))
      for (const record of records) yield { copy: copyInTree(tree, record), record };
    return;
  }
  for (const { records } of volume.readRecords(null, STEP)) for (const record of records) yield { copy: copyInTree(tree, record), record };
  if (options["records-only"]) return;
  for (const batch of leftoversPass(volume, disk)) for (const copy of batch.copies) yield { copy, record: null };
}

/** Opens what the layout of a copy counts; null: it is not there any more. */
export function openBytesOf({ tree, disk }: Chosen, { copy, record }: CopyAt): { disk: ByteSource; close(): void } | null {
  if (!copy.file || !record) return { disk, close: () => undefined };
  const opened = tree.open(record);
  return opened && { disk: opened.content, close: () => opened.close() };
}
export function stateFilter(state: string | undefined): (copy: { state: string }) => boolean {
  if (state === undefined || state === "all") return () => true;
  if (state !== "live" && state !== "deleted") throw new Usage(`--state takes live, deleted or all, not “${state}”.`);
  return (copy) => copy.state === state;
}
