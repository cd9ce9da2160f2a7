import type { ByteSource } from "../core/bytes/byte-source";
import { FileSystemError } from "../core/filesystems/file-record";
import { openVolume } from "../core/volumes/inspect";
import { readVolume } from "../core/volumes/reading";
import { openSource } from "../io/open-source";
import type { Options } from "./options";
import { flush, line, oneSource, say } from "./output";
import { EXIT } from "./usage";

/** `compass inspect`: a line a volume. */
export function inspect(positionals: readonly string[], options: Options): number {
  const source = openSource({ sourcePath: oneSource(positionals), beside: options.beside });
  const { report } = source;
  for (const note of report.notes) say(note);
  for (const { closed, ...volume } of report.volumes) {
    const notes = volume.volume === 0 ? [...report.notes, ...volume.notes] : volume.notes;
    const standing = volume.standing === "present" ? "" : ` (${volume.standing})`;
    const words = `volume ${volume.volume}: ${volume.filesystem}${standing}${volume.label ? ` “${volume.label}”` : ""}, ${volume.length} bytes at ${volume.offset}`;
    const more = options.findings ? readingOf(source.disk, volume) : null;
    const remarks = [...volume.notes, ...(more?.words ?? [])];
    line(
      options.json,
      {
        ...volume,
        ...(closed ? { encrypted: true } : {}),
        ...(report.identity ? { identity: report.identity } : {}),
        ...(report.created ? { created: new Date(report.created).toISOString() } : {}),
        notes,
        ...(more ? { findings: more.findings, profiles: more.profiles } : {}),
      },
      [words, ...remarks.map((note) => `  ${note}`)].join("\n"),
    );
  }
  flush();
  source.close();
  return EXIT.done;
}

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
