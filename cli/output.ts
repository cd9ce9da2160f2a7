import { writeSync } from "node:fs";
import type { ByteSource } from "../core/bytes/byte-source";
import type { Copy } from "../core/copies/copy";
import { fileRecordsPass, leftoversPass } from "../core/copies/file-records-pass";
import type { FileSystem } from "../core/filesystems/file-record";
import { FileSystemError } from "../core/filesystems/file-record";
import type { VolumeReport } from "../core/volumes/inspect";
import { diskFile } from "../io/bundle";
import { openVolumeOf } from "../io/open-searchable";
import { type DiskAt, type OpenedSource, openSource } from "../io/open-source";
import { SourceError } from "../io/source-error";
import { findStore, type Store } from "../io/stores";
import type { Options } from "./options";
import { EXIT, Usage } from "./usage";

const FLUSH_AT = 1 << 16;
let pending = "";

/** One line on standard output, as JSON or as the given words. Written in large pieces, and never lost to a full pipe. */
export function line(json: boolean | undefined, value: unknown, words: string): void {
  pending += `${json ? JSON.stringify(value) : words}\n`;
  if (pending.length >= FLUSH_AT) flush();
}

export function flush(): void {
  const bytes = Buffer.from(pending);
  pending = "";
  for (let done = 0; done < bytes.length; ) {
    try {
      done += writeSync(1, bytes, done);
    } catch (error) {
      const { code } = error as NodeJS.ErrnoException;
      if (code === "EPIPE") process.exit(0);
      if (code !== "EAGAIN") throw error;
    }
  }
}

export const say = (words: string) => process.stderr.write(`${words}\n`);

export function oneSource(positionals: readonly string[]): string {
  const [path, extra] = positionals;
  if (path === undefined) throw new Usage("Name the image to read.");
  if (extra !== undefined) throw new Usage(`One source at a time: “${extra}” is one too many.`);
  return diskFile(path);
}

export interface ChosenVolume {
  readonly report: VolumeReport;
  readonly volume: FileSystem;
}

/** Which disk is meant, and which volumes of it: those of a store, the one numbered, or all. */
interface Wanted {
  readonly disk: DiskAt;
  readonly is: (volume: VolumeReport) => boolean;
  /** Of a store: the volume as of its moment. */
  readonly as?: (volume: VolumeReport) => VolumeReport;
  /** Whether one volume was named, so that it is a problem when it cannot be read. */
  readonly named: boolean;
  readonly missing: string;
}

type Choice = Pick<Options, "volume" | "beside" | "store">;

/** Says which disk and volumes are meant by a call. @throws Usage when there is no such store, or both ways of choosing are used */
export function choose(path: string, { volume, beside, store: id }: Choice): Wanted {
  if (volume !== undefined && !/^\d+$/.test(volume)) throw new Usage(`--volume takes a number from \`inspect\`, not “${volume}”.`);
  const missing = `There is no volume ${volume} in ${path}.`;
  const is = (each: VolumeReport) => volume === undefined || each.volume === Number(volume);
  if (id === undefined) return { disk: { sourcePath: path, beside }, is, named: volume !== undefined, missing };
  const store = storeOf(path, beside, id);
  if (store.kind === "folder") throw new Usage("This store is a folder of this computer: its files are there to be used as they are.");
  const { disk, volume: inside } = store;
  if (!inside) return { disk, is, named: volume !== undefined, missing };
  if (volume !== undefined) throw new Usage("The store is a volume already: leave --volume out.");
  // A state of a volume is opened as the volume with another view.
  const as = inside.view;
  const volumeOf = (view: string | null) => view?.split("/")[0] ?? null;
  const isInside = (each: VolumeReport) =>
    each.offset === inside.offset && each.filesystem === inside.filesystem && volumeOf(each.view) === volumeOf(as);
  return { disk, is: isInside, as: (each) => ({ ...each, view: as }), named: true, missing };
}

/** Finds a store of a source by its id. @throws Usage when there is none */
export function storeOf(path: string, beside: readonly string[] | undefined, id: string): Store {
  const store = findStore({ sourcePath: path, beside }, id);
  if (!store) throw new Usage(`There is no store “${id}” in ${path}. \`stores ${path} --deep\` lists them.`);
  if (store.closed !== null) throw new SourceError(store.closed);
  return store;
}

/** Opens the source and its volumes (all, the one numbered, or those of a store) and calls `use` with those that can be read. */
export function withVolumes(
  positionals: readonly string[],
  options: Choice,
  use: (source: OpenedSource, chosen: readonly ChosenVolume[]) => boolean,
): number {
  const { disk, is, as = (volume) => volume, named, missing } = choose(oneSource(positionals), options);
  const source = openSource(disk);
  try {
    const reports = source.report.volumes.filter(is).map(as);
    if (reports.length === 0) throw new Usage(missing);
    let problems = false;
    const chosen = reports.flatMap((report) => {
      try {
        return [{ report, volume: openVolumeOf(disk, source.disk, report) }];
      } catch (error) {
        if (!(error instanceof FileSystemError)) throw error;
        say(`Volume ${report.volume}: ${report.closed ?? error.message}`);
        problems ||= named || report.filesystem !== "unknown" || report.closed !== null;
        return [];
      }
    });
    if (chosen.length === 0) return EXIT.unreadable;
    if (use(source, chosen)) problems = true;
    return problems ? EXIT.problems : EXIT.done;
  } finally {
    flush();
    source.close();
  }
}

export function stateFilter(state: string | undefined): (copy: { state: string }) => boolean {
  if (state === undefined || state === "all") return () => true;
  if (state !== "live" && state !== "deleted") throw new Usage(`--state takes live, deleted or all, not “${state}”.`);
  return (copy) => copy.state === state;
}

/** All copies on a volume: those its records describe, then (unless asked otherwise) what is left over of those before. */
export function* copiesOf({ volume }: ChosenVolume, disk: ByteSource, options: Pick<Options, "records-only">): Generator<Copy, void, void> {
  for (const batch of fileRecordsPass(volume, disk)) yield* batch.copies;
  if (options["records-only"]) return;
  for (const batch of leftoversPass(volume, disk)) yield* batch.copies;
}
