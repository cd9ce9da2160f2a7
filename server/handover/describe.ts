import { bytesIn } from "../../core/restore/gaps";
import type { LogEntry } from "../log/contract";
import type { Restore, Result } from "../restores/contract";
import { bytesText, countText, exactBytes, PASS_WORDS, RESULT_WORDS, resultText } from "../words/contract";

/** What a client wants to know of a file: is it there, and is it whole? */
export function plainResult(result: Result): string {
  const { state, condition, gaps } = result;
  if (state === "failed" || state === "skipped") return `${RESULT_WORDS[state]}. ${result.problem ?? ""}`.trim();
  if (state === "waiting" || state === "writing") return "not written yet";
  if (gaps) {
    const missing = bytesIn(gaps?.unreadable ?? []) + bytesIn(gaps?.foreign ?? []);
    return `${resultText(result)}: ${bytesText(missing)} of ${bytesText(result.size)} are missing`;
  }
  if (condition === "whole") return `${resultText(result)}, complete`;
  if (condition === "partial") return `${resultText(result)}, but the file was damaged before: it may not open, or not show everything`;
  return `${resultText(result)}; whether it is complete could not be checked`;
}

/** Sums of a restore in a sentence. */
export function restoreText({ state, counts, problem }: Restore): string {
  const { files, settled, verified, gaps, same, sameGaps, skipped, failed, since, missing } = counts;
  const parts = [
    `${countText(verified)} verified`,
    gaps > 0 ? `${countText(gaps)} with gaps (${exactBytes(missing)} missing in all)` : null,
    same > 0
      ? `${countText(same)} already there with the same bytes${sameGaps > 0 ? ` (${countText(sameGaps)} of them with gaps)` : ""}`
      : null,
    skipped > 0 ? `${countText(skipped)} skipped` : null,
    failed > 0 ? `${countText(failed)} not restored` : null,
    files > settled ? `${countText(files - settled)} not written yet` : null,
  ].filter(Boolean);
  const later = since > 0 ? ` ${countText(since)} of those written do not stand as they were left any more.` : "";
  return `Of ${countText(files)} ${files === 1 ? "file" : "files"}: ${parts.join(", ")}.${later}${state === "failed" && problem ? ` ${problem}` : ""}`;
}

const quoted = (value: unknown) => `“${String(value)}”`;

/** What the details of the log's entries are in words; those not named here say nothing a reader needs. */
const DETAILS: Readonly<Record<string, (value: unknown) => string | null>> = {
  title: quoted,
  client: (value) => (value ? `client ${quoted(value)}` : null),
  technician: (value) => (value ? `technician ${quoted(value)}` : null),
  firm: (value) => (value ? `firm ${quoted(value)}` : null),
  number: (value) => (value ? `number ${quoted(value)}` : null),
  name: quoted,
  item: quoted,
  path: String,
  link: (value) => `link ${value}`,
  leadsTo: (value) => (value === "job" ? "to what was found" : "to the handover"),
  for: (value) => (value ? `for ${quoted(value)}` : null),
  until: (value) => `until ${String(value).slice(0, 16).replace("T", " ")} UTC`,
  address: (value) => `from ${value}`,
  tries: (value) => `${value} wrong since the last right one`,
  from: (value) => `before ${quoted(value)}`,
  to: (value) => `now ${quoted(value)}`,
  source: (value) => `source ${quoted(value)}`,
  volume: (value) => `volume ${quoted(value)}`,
  volumes: (value) => `${value} ${value === 1 ? "volume" : "volumes"}`,
  new: (value) => (value ? `${value} of them new` : null),
  place: (value) => PASS_WORDS[String(value)] ?? String(value),
  pass: (value) => `pass ${value}`,
  restore: (value) => `restore ${value}`,
  files: (value) => `${countText(Number(value))} ${value === 1 ? "file" : "files"}`,
  destination: (value) => `into ${quoted(value)}`,
  problem: String,
  output: String,
  sha256: (value) => `SHA-256 ${value}`,
  timeZone: String,
  step: quoted,
  where: String,
  why: String,
  result: (value) => (value ? String(value) : null),
  told: (value) => (Array.isArray(value) ? value.map(String).join(" ") : typeof value === "string" ? value : null),
};

/** An entry of the log as a sentence. */
export function entryText({ what, detail }: LogEntry): string {
  const words = Object.entries(detail).flatMap(([name, value]) => {
    const said = value === null || value === undefined ? null : DETAILS[name]?.(value);
    return said ? [said] : [];
  });
  return words.length > 0 ? `${what}: ${words.join(", ")}` : what;
}
