import { FileSystemError } from "../core/filesystems/file-record";
import { KINDS } from "../core/formats/format";
import { FORMATS } from "../core/formats/registry";
import { type Find, isWhole } from "../core/sweep/find";
import { findName } from "../core/sweep/find-name";
import { planSweep } from "../core/sweep/plan-sweep";
import { sweep } from "../core/sweep/sweep";
import { openVolume } from "../core/volumes/inspect";
import { type OpenedSource, openDisk, openSource } from "../io/open-source";
import { chooseVolumes, type WantedVolumes } from "./chosen";
import type { Options } from "./options";
import { flush, line, oneSource } from "./output";
import { rangeOf } from "./range";
import { EXIT, Usage } from "./usage";

/** `compass sweep`: files by what they look like inside, without any file system. */
export function sweepSource(positionals: readonly string[], options: Options): number {
  const path = oneSource(positionals);
  const formats = wantedFormats(options.kinds);
  const wanted = chooseVolumes(path, options);
  const volumes = wanted.named || options.unused;
  const opened = volumes ? openSource(wanted.disk) : null;
  const source = opened ?? openDisk(wanted.disk);
  try {
    const { disk } = source;
    const volume = opened && chosenVolume(opened, wanted);
    const whole = volume ? { start: volume.report.offset, end: volume.report.offset + volume.report.length } : { start: 0, end: disk.size };
    const plan = planSweep(
      {
        range: rangeOf(options.range, whole),
        unusedOnly: options.unused ?? false,
        skip: [],
        everyByte: options["every-byte"] ?? false,
        longer: options.longer ?? false,
        formats,
      },
      volume?.volume ?? null,
    );
    for (const batch of sweep(disk, plan))
      for (const find of batch.finds) {
        line(options.json, asJson(find), asWords(find));
        flush();
      }
    return EXIT.done;
  } finally {
    flush();
    source.close();
  }
}

function chosenVolume(source: OpenedSource, { is, named, missing }: WantedVolumes) {
  const report = source.report.volumes.find((each) => is(each) && (named || each.filesystem !== "unknown"));
  if (!report) throw new Usage(named ? missing : "There is no volume that tells what is unused.");
  try {
    return { report, volume: openVolume(source.disk, report) };
  } catch (error) {
    if (!(error instanceof FileSystemError)) throw error;
    return { report, volume: null };
  }
}

/** Formats by their ids, their extensions, or the kinds they belong to. */
export function wantedFormats(text: string | undefined): readonly string[] | null {
  if (text === undefined) return null;
  return text.split(",").flatMap((each) => {
    const word = each.trim().toLowerCase();
    const found = FORMATS.filter(({ id, kind, extensions }) => id === word || kind === word || extensions.includes(word));
    if (found.length === 0)
      throw new Usage(`--kinds: “${word}” is not known. Kinds: ${KINDS.join(", ")}; or a type such as jpeg, pdf, docx.`);
    return found.map(({ id }) => id);
  });
}

function conditionOf(find: Find): string {
  if (find.extent.verdict.verdict === "damaged") return "partial";
  return isWhole(find) ? "whole" : "not-checked";
}

function asJson(find: Find): Record<string, unknown> {
  const { verdict } = find.extent;
  return {
    format: find.format.id,
    at: find.at,
    size: find.size,
    condition: conditionOf(find),
    name: findName(find),
    segments: find.segments.map(({ at, length }) => [at, length]),
    ...(find.inside === null ? {} : { parent: find.inside }),
    ...(verdict.verdict === "damaged" ? { damagedAt: verdict.at, reason: verdict.reason } : {}),
  };
}

const asWords = (find: Find) =>
  `${conditionOf(find)}\t${find.format.id}\t${find.at}\t${find.size}\t${findName(find)}${find.inside === null ? "" : `\tin ${find.inside}`}`;
