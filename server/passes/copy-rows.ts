import { createHash } from "node:crypto";
import { diskRuns, firstByte } from "../../core/bytes/layout";
import { encodeLayout } from "../../core/bytes/layout-code";
import type { Copy } from "../../core/copies/copy";
import { ALL_BYTES_THERE } from "../../core/filesystems/file-record";
import { kindOf } from "../../core/formats/registry";

/** A column of the rows in which copies come from a reader. */
interface IncomingColumn {
  readonly name: string;
  /** Its type in the temporary table. */
  readonly type: string;
  /** What of it is stored with the copy; null: it only helps to gather the copy. An SQL expression. */
  readonly stored: string | null;
  /** Its field in PostgreSQL's COPY text form. */
  write(copy: Copy, storeId: number): string;
}

/** A column that is stored as it comes. */
const column = (name: string, type: string, write: IncomingColumn["write"]): IncomingColumn => ({ name, type, stored: name, write });
/** A column that is not stored with the copy. */
const helper = (name: string, type: string, write: IncomingColumn["write"]): IncomingColumn => ({ name, type, stored: null, write });
/** A moment: it comes as milliseconds, because numbers are read faster than dates. */
const moment = (name: string, read: (copy: Copy) => number | null | undefined): IncomingColumn => ({
  name,
  type: "float8",
  stored: asTime(name),
  write: (copy) => time(read(copy) ?? null),
});

export const asTime = (name: string) => `to_timestamp(${name} / 1000)`;

/** All that is kept of a copy: what a reader gives, the temporary table it comes in, and what is stored are made from this table. */
export const COPY_COLUMNS: readonly IncomingColumn[] = [
  column("place", "text", (copy) => copy.place),
  helper("item_key", 'text collate "C"', (copy, storeId) => (isItem(copy) ? field(itemKey(copy, storeId)) : NULL)),
  helper("folder_path", "text", (copy) => field(folderOf(copy))),
  helper("kind", "text", (copy) => field(kindOf(copy.name))),
  column("state", "text", (copy) => field(copy.state)),
  column("type", "text", (copy) => field(copy.type)),
  column("reference", "text", (copy) => field(copy.reference)),
  column("name", "text", (copy) => field(copy.name)),
  column("name_raw", "bytea", (copy) => hex(copy.rawName)),
  column("size", "bigint", (copy) => String(copy.size)),
  moment("created", (copy) => copy.created),
  moment("modified", (copy) => copy.modified),
  moment("changed", (copy) => copy.changed),
  moment("deleted_at", (copy) => copy.deletedAt),
  column("condition", "text", (copy) => field(copy.condition)),
  column("survival", "float8", (copy) => String(copy.survival)),
  column("evidence", "jsonb", (copy) => evidenceField(copy.evidence)),
  column("layout", "bytea", (copy) => (copy.layout ? hex(encodeLayout(copy.layout)) : NULL)),
  column("first_at", "bigint", (copy) => orNull(firstByte(copy.layout))),
  column("span", "int8range", (copy) => spanOf(copy.layout) ?? NULL),
  column("streams", "jsonb", (copy) => (copy.streams.length > 0 ? field(JSON.stringify(copy.streams.map(streamRow))) : NULL)),
  column("links", "int", (copy) => String(copy.links)),
  column("marks", "smallint", (copy) => orNull(copy.marks || null)),
  column("absent", "text", (copy) => copy.absent ?? NULL),
  column("notes", "jsonb", (copy) => (copy.notes.length === 0 ? "[]" : field(JSON.stringify(copy.notes)))),
  column("file", "text", (copy) => (copy.file ? field(copy.file) : NULL)),
  column("file_size", "bigint", (copy) => orNull(copy.holder?.size ?? null)),
  moment("file_modified", (copy) => copy.holder?.modified),
  moment("file_created", (copy) => copy.holder?.created),
  column("file_further", "jsonb", ({ holder }) => (holder?.further ? field(JSON.stringify(holder.further)) : NULL)),
  column("rule", "text", (copy) => (copy.found ? field(copy.found.rule) : NULL)),
  column("found_path", "text", (copy) => (copy.found ? field(copy.found.path) : NULL)),
  column("facts", "jsonb", (copy) => (copy.facts ? field(JSON.stringify(copy.facts)) : NULL)),
  column("local_times", "boolean", (copy) => String(copy.localTimes ?? false)),
  column("present", "tstzrange", (copy) => presenceOf(copy.present)),
  column("set_key", "text", (copy) => (copy.set === undefined ? NULL : setKey(copy.set))),
  column("moved_to", "text", (copy) => (copy.movedTo === undefined ? NULL : field(copy.movedTo))),
  column("same_as", "text", (copy) => (copy.sameAs === undefined ? NULL : field(copy.sameAs))),
];

/** Copies as rows of PostgreSQL's COPY text form, in the order of `COPY_COLUMNS`. */
export function copyRows(copies: readonly Copy[], storeId: number): Uint8Array {
  let text = "";
  for (const copy of copies) text += `${COPY_COLUMNS.map((each) => each.write(copy, storeId)).join("\t")}\n`;
  return Buffer.from(text);
}

/** A set's id as copies keep it: short, and fit for an address. */
export const setKey = (id: string): string => createHash("sha256").update(id).digest("hex").slice(0, 12);

const folderOf = (copy: Copy) => copy.path.slice(0, Math.max(0, copy.path.length - copy.name.length - 1));

/** Records of the Windows bin: they belong to a deleted file and are none of the client's own. */
const BIN_INDEX =
  /^\/\$recycle\.bin\/s-[\d-]+\/(\$i[0-9a-z]{6}(\.[^/]*)?|desktop\.ini)$|^\/(recycler\/s-[\d-]+|recycled)\/(info2|desktop\.ini)$/i;

/** Whether a copy is one of a file the client had. */
export const isItem = (copy: Copy) => copy.type === "file" && !copy.system && (copy.found != null || !BIN_INDEX.test(copy.path));

/** The span of a content in several stretches, as the database writes a range; null: of one in a single stretch its first byte says enough. */
export function spanOf(layout: Copy["layout"]): string | null {
  const runs = layout ? diskRuns(layout) : [];
  if (runs.length < 2) return null;
  let [start, until] = [Number.MAX_SAFE_INTEGER, 0];
  for (const run of runs) {
    start = Math.min(start, run.at);
    until = Math.max(until, run.at + run.length);
  }
  return `[${start},${until})`;
}

/** A span of states as the database writes a range, both ends included. */
function presenceOf(present: Copy["present"]): string {
  if (!present) return NULL;
  const text = (ms: number) => new Date(ms).toISOString();
  return `[${text(present.from)},${present.until === null ? "" : text(Math.max(present.from, present.until))}]`;
}

const MOST_STREAMS = 64;

function streamRow({ name, size, layout }: Copy["streams"][number], index: number) {
  // Beyond a few dozen only their names are worth keeping.
  const kept = layout && index < MOST_STREAMS ? Buffer.from(encodeLayout(layout)).toString("base64") : null;
  return { name: name.replaceAll("\0", "\uFFFD").toWellFormed(), size, layout: kept };
}

/**
 * Copies of one name in the same folder are the same item, whatever its capitals and Unicode form (but see `TWINS` in store-copies.ts);
 * where the folders above are not known, or the name is not in full, only the same record is.
 */
function itemKey(copy: Copy, storeId: number): string {
  const name = copy.name.normalize("NFC").toLowerCase();
  const key = copy.path.startsWith("/?/") || copy.incompleteName ? `${name}#${storeId}:${copy.reference}` : name;
  // The index over the keys takes no entries of more than about 2,700 bytes.
  return key.length <= 400 ? key : createHash("sha256").update(key).digest("hex");
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
  const { usedByOthers, takenLater, lost, unreadable, inDoubt = 0, content, kept } = evidence;
  return usedByOthers + takenLater + lost + unreadable + inDoubt === 0 && content === null && kept === undefined
    ? NOTHING_AGAINST
    : field(JSON.stringify(evidence));
}

const hex = (bytes: Uint8Array) => `\\\\x${Buffer.from(bytes.buffer, bytes.byteOffset, bytes.length).toString("hex")}`;
const orNull = (value: number | null) => (value === null ? NULL : String(value));
const time = (ms: number | null) => (ms === null ? NULL : String(Math.floor(ms)));
