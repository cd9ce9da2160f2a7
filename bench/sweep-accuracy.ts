import { type Find, isProven } from "../core/sweep/find";
import { planSweep } from "../core/sweep/plan-sweep";
import { sweep } from "../core/sweep/sweep";
import { carveImage, sha256 } from "../tests/support/lab-files";

const PIECED = ["photo", "jpeg", "png", "zip", "docx", "xlsx", "odt", "ods", "odp", "pptx", "pdf"];

/** How exact the sweep is on the image without a file system, whose manifest its makers wrote; rows of Markdown. */
export function accuracy(): string {
  const { bytes, source, files, embedded } = carveImage();
  const plan = planSweep({ range: { start: 0, end: source.size }, unusedOnly: false, skip: [], everyByte: true, formats: null }, null);
  const finds = [...sweep(source, plan)].flatMap((batch) => batch.finds);
  const content = ({ segments }: Find) => Buffer.concat(segments.map(({ at, length }) => bytes.subarray(at, at + length)));
  const found = new Set(finds.map((find) => sha256(content(find))));
  const share = (wanted: typeof files) => `${wanted.filter(({ sha256: hash }) => found.has(hash)).length} of ${wanted.length}`;
  const inPieces = files.filter(({ state }) => state.startsWith("fragmented"));
  const starts = new Set([...files, ...embedded].map(({ firstOffset }) => firstOffset));
  const alone = finds.filter(({ inside }) => inside === null);
  const known = new Set([...files, ...embedded].map(({ sha256: hash }) => hash));
  const untrue = alone.filter((find) => isProven(find) && !known.has(sha256(content(find))));
  return [
    `| contiguous files, byte for byte | ${share(files.filter(({ state }) => state.startsWith("contiguous")))} |`,
    `| files in two pieces: JPEG, PNG, ZIP-based, PDF | ${share(inPieces.filter(({ kind }) => PIECED.includes(kind)))} |`,
    `| files in two pieces, all kinds | ${share(inPieces)} |`,
    `| finds that are no file | ${alone.filter(({ at }) => !starts.has(at)).length} of ${alone.length} |`,
    `| called whole, and not | ${untrue.length} |`,
  ].join("\n");
}
