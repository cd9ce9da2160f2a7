import { writeSync } from "node:fs";
import type { ByteSource } from "../core/bytes/byte-source";
import type { Copy } from "../core/copies/copy";
import { fileRecordsPass, leftoversPass } from "../core/copies/file-records-pass";
import type { FileSystem } from "../core/filesystems/file-record";
import { FileSystemError } from "../core/filesystems/file-record";
import { openVolume, type VolumeReport } from "../core/volumes/inspect";
import { type OpenedSource, openSource } from "../io/open-source";
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
  return path;
}

export interface ChosenVolume {
  readonly report: VolumeReport;
  readonly volume: FileSystem;
}

/** Opens the source and its volumes (all, or the one numbered) and calls `use` with those that can be read. */
export function withVolumes(
  positionals: readonly string[],
  { volume: wanted, beside }: Pick<Options, "volume" | "beside">,
  use: (source: OpenedSource, chosen: readonly ChosenVolume[]) => boolean,
): number {
  const path = oneSource(positionals);
  if (wanted !== undefined && !/^\d+$/.test(wanted)) throw new Usage(`--volume takes a number from \`inspect\`, not “${wanted}”.`);
  const source = openSource(path, beside);
  try {
    const reports = wanted === undefined ? source.report.volumes : source.report.volumes.filter((each) => each.volume === Number(wanted));
    if (reports.length === 0) throw new Usage(`There is no volume ${wanted} in ${path}.`);
    let problems = false;
    const chosen = reports.flatMap((report) => {
      try {
        return [{ report, volume: openVolume(source.disk, report) }];
      } catch (error) {
        if (!(error instanceof FileSystemError)) throw error;
        say(`Volume ${report.volume}: ${report.closed ?? error.message}`);
        problems ||= wanted !== undefined || report.filesystem !== "unknown" || report.closed !== null;
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
