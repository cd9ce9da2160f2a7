import type { ByteSource } from "../core/bytes/byte-source";
import { thoroughPass } from "../core/copies/file-records-pass";
import type { Condition } from "../core/copies/vocabulary";
import { FileSystemError } from "../core/filesystems/file-record";
import { openVolume } from "../core/volumes/inspect";
import { readVolume } from "../core/volumes/reading";
import { openSource } from "../io/open-source";
import type { Options } from "./options";
import { flush, line, oneSource, say } from "./output";
import { rangeOf } from "./range";
import { EXIT } from "./usage";

/** `compass inspect`: a line a volume. */
export function inspect(positionals: readonly string[], options: Options): number {
  const source = openSource({ sourcePath: oneSource(positionals), beside: options.beside });
  const { report } = source;
  for (const note of report.notes) say(note);
  for (const { closed, identity: own, over: _over, ...volume } of report.volumes) {
    const notes = volume.volume === 0 ? [...report.notes, ...volume.notes] : volume.notes;
    const standing = volume.standing === "present" ? "" : ` (${volume.standing})`;
    const words = `volume ${volume.volume}: ${volume.filesystem}${standing}${volume.label ? ` “${volume.label}”` : ""}, ${volume.length} bytes at ${volume.offset}`;
    const more = options.findings ? readingOf(source.disk, volume) : null;
    const files = options.thorough || options.range !== undefined ? countsOf(source.disk, volume, options.range) : null;
    const remarks = [...volume.notes, ...(more?.words ?? []), ...(files ? [countWords(files)] : [])];
    line(
      options.json,
      {
        ...volume,
        ...(closed ? { encrypted: true } : {}),
        ...(own ? { identifier: own.id } : {}),
        ...(own?.drive ? { drive: own.drive, part: own.part } : {}),
        ...(report.identity ? { identity: report.identity } : {}),
        ...(report.created ? { created: new Date(report.created).toISOString() } : {}),
        notes,
        ...(more ? { findings: more.findings, profiles: more.profiles } : {}),
        ...(files ? { files } : {}),
      },
      [words, ...remarks.map((note) => `  ${note}`)].join("\n"),
    );
  }
  flush();
  source.close();
  return EXIT.done;
}

type Counts = Record<Condition, number>;

/** How many files of a backup or archive stand how, by a thorough reading of it or of a part; null: it is none, or cannot be read. */
function countsOf(disk: ByteSource, report: Parameters<typeof openVolume>[1], range: string | undefined): Counts | null {
  const counts: Counts = { whole: 0, partial: 0, "not-checked": 0, "name-only": 0 };
  try {
    const volume = openVolume(disk, report);
    if (!volume.readThorough) return null;
    for (const { copies } of thoroughPass(volume, disk, null, STEP, rangeOf(range, { start: 0, end: disk.size })))
      for (const { type, condition } of copies) if (type === "file") counts[condition] += 1;
    return counts;
  } catch (error) {
    if (!(error instanceof FileSystemError)) throw error;
    return null;
  }
}
const STEP = 512;
const countWords = (counts: Counts): string =>
  `files: ${Object.entries(counts)
    .map(([condition, count]) => `${count} ${condition}`)
    .join(", ")}`;

/** What does not add up in a volume and whose profiles are on it; nothing for one that cannot be read. */
function readingOf(disk: ByteSource, report: Parameters<typeof openVolume>[1]) {
  try {
    const reading = readVolume(openVolume(disk, report), disk);
    const words = [
      ...reading.findings.map((finding) => `${finding.what} ${finding.count}: ${finding.examples.join(", ")}`),
      ...reading.profiles.map(
        (profile) => `profile ${profile.path}: ${profile.files} files, ${profile.bytes} bytes, account ${profile.account}`,
      ),
    ];
    return { ...reading, words };
  } catch (error) {
    if (!(error instanceof FileSystemError)) throw error;
    return { findings: [], profiles: [], words: [] };
  }
}
