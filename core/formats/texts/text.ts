import type { ByteSource } from "../../bytes/byte-source";
import { damaged, type Extent, endsAt, type Format, type Summary } from "../format";
import { isReadable, isTable, REFUSED, textOf, textRun, wideMark } from "./text-run";

const EXTENSIONS =
  "txt csv tsv md log ini json xml html htm svg eml ics vcf tex srt css js ts py c h sql yaml yml bat ps1 sh cfg conf dxf mbox".split(" ");

/** Plain text in any 8-bit code or UTF-8, or UTF-16 with its mark: recognised by having no control characters. */
export const text: Format = {
  id: "text",
  kind: "documents",
  title: "text",
  extensions: EXTENSIONS,
  loose: true,
  recognise: (head) => head.length > 0 && (wideMark(head) !== null || !head.some((byte) => REFUSED[byte])),
  follow: (source) => {
    const run = textRun(source);
    if (!run) return { size: 0, closed: false, verdict: damaged(0, "from here on it is not text") };
    if (run.length < source.size) return { size: run.length, closed: false, verdict: damaged(run.length, "from here on it is not text") };
    return endsAt(run.length);
  },
  summarise: firstWords,
};

export function firstWords(source: ByteSource): Summary {
  const run = textRun(source, 4096);
  if (!run) return {};
  const words = textOf(source, run, 4096).replace(/\s+/g, " ").trim();
  return words ? { text: words.slice(0, 300) } : {};
}

const LEAST = 48;
const SAMPLE = 16_384;

/** A stretch of readable text that nothing closes: it goes on to the first byte that is none. */
function readable(source: ByteSource, accept: (text: string) => boolean): Extent | null {
  const beginning = textRun(source, SAMPLE);
  if (!beginning || beginning.length < LEAST) return null;
  const sample = textOf(source, beginning, SAMPLE);
  if (!accept(sample) || !isReadable(sample)) return null;
  const run = beginning.length < SAMPLE - 1 ? beginning : (textRun(source) ?? beginning);
  return { size: run.length, closed: false, verdict: { verdict: "cannot-tell", reason: "text does not tell where it ends" } };
}

/** Tables and texts as the sweep looks for them: without a beginning of their own, recognised by how they read. */
export const table: Format = {
  id: "csv",
  kind: "sheets",
  title: "table in text",
  extensions: ["csv"],
  loose: true,
  recognise: (head) => text.recognise(head) && isTable(latin(head)),
  follow: (source) => readable(source, isTable),
  summarise: firstWords,
};
export const words: Format = {
  id: "words",
  kind: "documents",
  title: "text",
  extensions: ["txt"],
  loose: true,
  recognise: (head) => text.recognise(head) && isReadable(latin(head)),
  follow: (source) => readable(source, () => true),
  summarise: firstWords,
};

const latin = (head: Uint8Array) => new TextDecoder(wideMark(head) ?? "utf-8").decode(head);
