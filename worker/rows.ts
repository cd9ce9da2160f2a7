import { createHash } from "node:crypto";
import { diskRuns, firstByte } from "../core/bytes/layout";
import { encodeLayout } from "../core/bytes/layout-code";
import type { Copy } from "../core/copies/copy";
import { ALL_BYTES_THERE } from "../core/filesystems/file-record";
import { kindOf } from "../core/formats/registry";

/** Copies as rows of PostgreSQL's COPY text form, in the order of `INCOMING_COLUMNS`. */
export function copyRows(copies: readonly Copy[], storeId: number): Uint8Array {
  let text = "";
  for (const copy of copies) text += `${rowOf(copy, storeId).join("\t")}\n`;
  return Buffer.from(text);
}

function rowOf(copy: Copy, storeId: number): string[] {
  const folder = copy.path.slice(0, Math.max(0, copy.path.length - copy.name.length - 1));
  const layout = copy.layout ? encodeLayout(copy.layout) : null;
  const first = firstByte(copy.layout);
  return [
    copy.place,
    isItem(copy) ? field(itemKey(copy, storeId)) : NULL,
    field(folder),
    field(kindOf(copy.name)),
    field(copy.state),
    field(copy.type),
    field(copy.reference),
    field(copy.name),
    hex(copy.rawName),
    String(copy.size),
    time(copy.created),
    time(copy.modified),
    time(copy.changed),
    time(copy.deletedAt ?? null),
    field(copy.condition),
    String(copy.survival),
    evidenceField(copy.evidence),
    layout ? hex(layout) : NULL,
    first === null ? NULL : String(first),
    spanOf(copy.layout),
    copy.streams.length > 0 ? field(JSON.stringify(copy.streams.map(streamRow))) : NULL,
    String(copy.links),
    String(copy.encrypted),
    copy.notes.length === 0 ? "[]" : field(JSON.stringify(copy.notes)),
    copy.file ? field(copy.file) : NULL,
    copy.found ? field(copy.found.rule) : NULL,
    copy.found ? field(copy.found.path) : NULL,
    copy.facts ? field(JSON.stringify(copy.facts)) : NULL,
    String(copy.localTimes ?? false),
  ];
}

/** Records of the Windows bin: they belong to a deleted file and are none of the client's own. */
const BIN_INDEX =
  /^\/\$recycle\.bin\/s-[\d-]+\/(\$i[0-9a-z]{6}(\.[^/]*)?|desktop\.ini)$|^\/(recycler\/s-[\d-]+|recycled)\/(info2|desktop\.ini)$/i;

/** Whether a copy is one of a file the client had. */
export const isItem = (copy: Copy) => copy.type === "file" && !copy.system && (copy.found != null || !BIN_INDEX.test(copy.path));

/** The span of a content in several stretches, as the database writes a range; of one in a single stretch its first byte says enough. */
function spanOf(layout: Copy["layout"]): string {
  const runs = layout ? diskRuns(layout) : [];
  if (runs.length < 2) return NULL;
  let [start, until] = [Number.MAX_SAFE_INTEGER, 0];
  for (const run of runs) {
    start = Math.min(start, run.at);
    until = Math.max(until, run.at + run.length);
  }
  return `[${start},${until})`;
}

const MOST_STREAMS = 64;

function streamRow({ name, size, layout }: Copy["streams"][number], index: number) {
  // Beyond a few dozen only their names are worth keeping.
  const kept = layout && index < MOST_STREAMS ? Buffer.from(encodeLayout(layout)).toString("base64") : null;
  return { name: name.replaceAll("\0", "\uFFFD").toWellFormed(), size, layout: kept };
}

/**
 * Copies at the same path are the same item, whatever its capitals and Unicode form (but see `TWINS` in server/passes/store-copies.ts); where the
 * folders above are not known, or the name is not in full, only the same record is.
 */
function itemKey(copy: Copy, storeId: number): string {
  const path = copy.path.normalize("NFC").toLowerCase();
  const key = `${storeId}:${path.startsWith("/?/") || copy.incompleteName ? `${path}#${copy.reference}` : path}`;
  // The index over the keys takes no entries of more than about 2,700 bytes.
  return key.length <= 400 ? key : `${storeId}#${createHash("sha256").update(key).digest("hex")}`;
}

const NULL = "\\N";
const ESCAPES: Record<string, string> = { "\\": "\\\\", "\t": "\\t", "\n": "\\n", "\r": "\\r" };

/** COPY text form: backslash escapes; NUL and lone surrogates, which the database refuses, become U+FFFD. */
function field(text: string): string {
  const clean = text.isWellFormed() ? text : text.toWellFormed();
  // Looking first is much cheaper than replacing: hardly any text has one of these.
  if (!SPECIAL.test(clean)) return clean;
  return clean.replaceAll("\0", "\uFFFD").replace(/[\\\t\n\r]/g, (mark) => ESCAPES[mark] as string);
}

const SPECIAL = /[\\\t\n\r\0]/;
const NOTHING_AGAINST = JSON.stringify({ ...ALL_BYTES_THERE, unreadable: 0, content: null } satisfies Copy["evidence"]);

/** Nearly all evidence says that nothing speaks against the copy. */
function evidenceField(evidence: Copy["evidence"]): string {
  const { usedByOthers, takenLater, lost, unreadable, content } = evidence;
  return usedByOthers + takenLater + lost + unreadable === 0 && content === null ? NOTHING_AGAINST : field(JSON.stringify(evidence));
}

const hex = (bytes: Uint8Array) => `\\\\x${Buffer.from(bytes.buffer, bytes.byteOffset, bytes.length).toString("hex")}`;
/** Milliseconds; the statement that stores them makes times of them. */
const time = (ms: number | null) => (ms === null ? NULL : String(Math.floor(ms)));
