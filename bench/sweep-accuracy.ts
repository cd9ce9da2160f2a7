import { readdirSync, readFileSync } from "node:fs";
import { join } from "node:path";
import { MemorySource } from "../core/bytes/byte-source";
import { type Find, isWhole } from "../core/sweep/find";
import { planSweep } from "../core/sweep/plan-sweep";
import { sweep } from "../core/sweep/sweep";
import { carveImage, type PlacedFile, sha256 } from "../tests/support/lab-files";

interface Sum {
  readonly contiguous: [number, number];
  readonly two: [number, number];
  readonly three: [number, number];
  /** By kind, of files in two pieces. */
  readonly kinds: Map<string, [number, number]>;
  /** Finds that stand by themselves, and those of them that begin where no file does. */
  alone: number;
  noFile: number;
  untrue: number;
}

const count = (cell: [number, number], hit: boolean) => {
  cell[0] += hit ? 1 : 0;
  cell[1] += 1;
};
const share = ([hits, all]: readonly [number, number]) => `${hits} of ${all}${all > 0 ? ` (${((100 * hits) / all).toFixed(1)} %)` : ""}`;

/** Sweeps an image of which it is known where every byte of its files lies, and adds up what came out. */
function add(sum: Sum, bytes: Uint8Array, entries: readonly PlacedFile[], everyByte: boolean): void {
  const source = new MemorySource(bytes);
  const plan = planSweep({ range: { start: 0, end: source.size }, unusedOnly: false, skip: [], everyByte, formats: null }, null);
  const finds = [...sweep(source, plan)].flatMap((batch) => batch.finds);
  const content = ({ segments }: Find) => Buffer.concat(segments.map(({ at, length }) => bytes.subarray(at, at + length)));
  const hashes = new Map(finds.map((find) => [find, sha256(content(find))]));
  const found = new Set(hashes.values());
  for (const { type, state, kind, sha256: hash } of entries) {
    if (type !== "file") continue;
    if (state === "contiguous") count(sum.contiguous, found.has(hash));
    else if (state === "fragmented-split3") count(sum.three, found.has(hash));
    else if (state.startsWith("fragmented")) {
      count(sum.two, found.has(hash));
      const cell = sum.kinds.get(kind) ?? [0, 0];
      count(cell, found.has(hash));
      sum.kinds.set(kind, cell);
    }
  }
  const starts = new Set(entries.map(({ firstOffset }) => firstOffset));
  const known = new Set(entries.map(({ sha256: hash }) => hash));
  const alone = finds.filter(({ inside }) => inside === null);
  sum.alone += alone.length;
  sum.noFile += alone.filter(({ at }) => !starts.has(at)).length;
  sum.untrue += alone.filter((find) => isWhole(find) && !known.has(hashes.get(find) ?? "")).length;
}

const nothing = (): Sum => ({ contiguous: [0, 0], two: [0, 0], three: [0, 0], kinds: new Map(), alone: 0, noFile: 0, untrue: 0 });

const rows = ({ contiguous, two, three, kinds, alone, noFile, untrue }: Sum): string =>
  [
    `| contiguous files, byte for byte | ${share(contiguous)} |`,
    `| files in two pieces | ${share(two)} |`,
    ...[...kinds].sort(([a], [b]) => a.localeCompare(b)).map(([kind, cell]) => `| … ${kind} | ${share(cell)} |`),
    `| files in three pieces | ${share(three)} |`,
    `| finds that are no file | ${noFile} of ${alone} |`,
    `| called whole, and not | ${untrue} |`,
  ].join("\n");

/**
 * How exact the sweep is, as rows of Markdown: on the image without a file system whose manifest its makers wrote, and on those in a folder,
 * each with its manifest beside it (`COMPASS_CARVED`: NAME.img and NAME.json with `entries`).
 */
export function* accuracy(): Generator<{ title: string; rows: string }, void, void> {
  const { bytes, files, embedded } = carveImage();
  const one = nothing();
  add(one, bytes, [...files, ...embedded], true);
  yield { title: "the image without a file system, every byte", rows: rows(one) };
  const folder = process.env.COMPASS_CARVED;
  if (!folder) return;
  const names = readdirSync(folder).filter((name) => name.endsWith(".img"));
  const sum = nothing();
  for (const name of names)
    add(
      sum,
      readFileSync(join(folder, name)),
      JSON.parse(readFileSync(join(folder, name.replace(/img$/, "json"))).toString()).entries as PlacedFile[],
      false,
    );
  yield { title: `${names.length} images of a folder, at sectors`, rows: rows(sum) };
}
