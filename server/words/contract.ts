import { type Condition, PLACES, titleOf } from "../../core/copies/vocabulary";
import { FILE_SYSTEM_TITLES } from "../../core/filesystems/names";
import { KIND_TITLES } from "../../core/formats/kind-titles";
import type { EntryKind } from "../../core/records/entries/kinds";
import type { Row } from "../../core/records/row";
import type { Item, Since } from "../items/contract";
import { PASS_PLACES, type PassOptions, passKind } from "../passes/contract";
import type { LIKENESS } from "../records/contract";
import type { Counts, Result } from "../restores/contract";
import type { SetFacts } from "../sources/contract";

const UNITS = ["B", "KiB", "MiB", "GiB", "TiB", "PiB"] as const;

/** Bytes in binary units with one decimal. */
export { ABSENCE_WORDS } from "../../core/copies/vocabulary";

export function bytesText(bytes: number): string {
  let value = bytes;
  let unit = 0;
  // What would be written as 1024.0 of a unit is 1.0 of the next.
  while (value >= (unit === 0 ? 1024 : 1023.95) && unit < UNITS.length - 1) {
    value /= 1024;
    unit += 1;
  }
  return `${unit === 0 ? value : value.toFixed(1)} ${UNITS[unit]}`;
}

const thin = "\u2009";
/** A count with thin spaces between thousands. */
export const countText = (count: number) =>
  Math.round(count)
    .toString()
    .replace(/\B(?=(\d{3})+$)/g, thin);
export const filesText = (count: number) => `${countText(count)} ${count === 1 ? "file" : "files"}`;
/** Exact bytes, for hovering. */
export const exactBytes = (bytes: number) => `${countText(bytes)} bytes`;
/** A byte offset as the field writes it: hexadecimal in groups of four. */
export const offsetText = (offset: number) =>
  `0x${offset
    .toString(16)
    .toUpperCase()
    .padStart(8, "0")
    .replace(/\B(?=(.{4})+$)/g, "_")}`;

export const dateText = (date: Date | null, timeZone: string) =>
  date ? date.toLocaleDateString("en-GB", { day: "numeric", month: "short", year: "numeric", timeZone }) : "no date";
export const momentText = (date: Date | null, timeZone: string) =>
  date
    ? date.toLocaleString("en-GB", { day: "numeric", month: "short", year: "numeric", hour: "2-digit", minute: "2-digit", timeZone })
    : "not set";

/** What became of a file since the moment a list shows. */
export const AS_OF_WORDS: Readonly<Record<Since, string>> = {
  gone: "gone since",
  moved: "moved or renamed since",
  changed: "changed since",
  same: "same as now",
  kept: "in the last state too",
};
/** What became of an item of a list as of a moment. */
export const sinceText = ({ since, copyThen }: Pick<Item, "since" | "copyThen">): string | null =>
  since === undefined ? null : since === "changed" && copyThen === undefined ? "changed since, not kept as it was" : AS_OF_WORDS[since];

/** What a backup set is made of. */
export const SET_KIND_WORDS: Readonly<Record<SetFacts["kind"], string>> = {
  "dated-copies": "dated copies of files",
  "dated-trees": "dated folder trees",
  "archive-sets": "archives in dated folders",
  "dated-archives": "dated archives",
  "folder-copies": "dated copies of a folder",
  "phone-backups": "backups of a phone",
  snapshots: "snapshots of the volume",
};

/** A span of time as a person says it. */
export function durationText(ms: number): string {
  const seconds = Math.round(ms / 1000);
  if (seconds < 1) return "under 1 s";
  if (seconds < 60) return `${seconds} s`;
  const minutes = Math.round(seconds / 60);
  return minutes < 60 ? `${minutes} min` : `${Math.floor(minutes / 60)} h ${minutes % 60} min`;
}

/** The size of a picture or film. */
export const pixelsText = (facts: { width?: number | undefined; height?: number | undefined } | null) =>
  facts?.width && facts.height ? `${facts.width} × ${facts.height}` : "";

export function conditionText(condition: Condition, survival: number): string {
  if (condition === "whole") return "whole";
  if (condition === "name-only") return "name only";
  if (condition === "not-checked") return "not checked";
  return `${Math.max(1, Math.min(99, Math.round(survival * 100)))} % left`;
}

export const CONDITION_WORDS: Record<string, string> = {
  whole: "whole",
  "in-place": "in place",
  partial: "partial",
  "name-only": "name only",
  "not-checked": "not checked",
};

export const KIND_WORDS: Record<string, string> = KIND_TITLES;

/** So many files of a kind, for the middle of a sentence. */
export function kindCountText(kind: string, count: number): string {
  const words = (KIND_WORDS[kind] ?? kind).toLowerCase();
  return `${countText(count)} ${count === 1 ? words.replace(/^(document|sheet|drawing|picture|archive)s$/, "$1") : words}`;
}

export const PLACE_WORDS: Record<string, string> = Object.fromEntries(PLACES.map((place) => [place, titleOf(place)]));

/** What a pass reads a volume for. */
export const PASS_WORDS: Record<string, string> = Object.fromEntries(PASS_PLACES.map((place) => [place, passKind(place).words.noun]));

/** File systems and folders as a person calls them. */
export const FILE_SYSTEM_WORDS: Record<string, string> = { ...FILE_SYSTEM_TITLES, folder: "folder", unknown: "not recognised" };

export const CONTAINER_WORDS: Record<string, string> = {
  raw: "Raw image",
  split: "Raw image in parts",
  vhd: "VHD image",
  vhdx: "VHDX image",
  udif: "Compressed disk image",
  "sparse-image": "Sparse disk image",
  "sparse-bundle": "Disk image in bands",
  "tape-media": "Backup on several media",
  packed: "Compressed file",
  drive: "Drive",
  folder: "Folder of this bench",
};

/** Earlier states of a volume. */
export const STATE_WORDS: Record<string, string> = {
  set: "backup set",
  snapshot: "snapshot",
  checkpoint: "earlier checkpoint, not written over yet",
};

/** How a volume is known, where the partition table does not name it. */
export const STANDING_WORDS: Record<string, string> = { lost: "lost volume", earlier: "earlier volume" };

/** What a pass was narrowed to, in words; "" for a whole one. */
export function narrowedWords({
  folder,
  from,
  to,
  kinds,
  places,
  statesFrom,
  statesTo,
  newestFirst,
  unused,
  everyByte,
  longer,
}: PassOptions): string {
  const day = (date: string) => dateText(new Date(date), "UTC");
  return [
    places && places.length > 0 ? places.map((place) => PLACE_WORDS[place]?.toLowerCase()).join(", ") : null,
    folder && `below ${folder}`,
    from !== undefined || to !== undefined ? `${from ?? 0} to ${to ?? 100} %` : null,
    (statesFrom || statesTo) &&
      ["states", statesFrom && `from ${day(statesFrom)}`, statesTo && `up to ${day(statesTo)}`].filter(Boolean).join(" "),
    newestFirst && "the newest state first",
    unused && "unused room only",
    everyByte && "every byte",
    longer && "a longer look for pieces",
    kinds && kinds.length > 0 ? kinds.map((kind) => KIND_WORDS[kind]?.toLowerCase()).join(", ") : null,
  ]
    .filter(Boolean)
    .join(", ");
}

/** The marks of results, in the list and wherever they are spoken of. */
export const RESULT_WORDS: Readonly<Record<Result["state"], string>> = {
  waiting: "waiting",
  writing: "being written",
  verified: "verified",
  gaps: "with gaps",
  same: "the same was there already",
  skipped: "skipped",
  failed: "not restored",
};

const SINCE_WORDS: Readonly<Record<NonNullable<Result["since"]>, string>> = {
  replaced: "replaced by a later restore since",
  changed: "changed since",
  gone: "not there any more",
};

/** A result's mark with what became of the file since. */
export const resultText = ({ state, since }: Pick<Result, "state" | "since">): string =>
  since ? `${RESULT_WORDS[state]}; ${SINCE_WORDS[since]}` : RESULT_WORDS[state];

/** What of a file did not go along with its content; null: nothing, as far as is known. */
export const leftBehindText = ({ leftBehind }: Pick<Result, "leftBehind">): string | null =>
  leftBehind && leftBehind.length > 0 ? `Left behind: ${leftBehind.join("; ")}.` : null;

/** Where a restore goes, by name: its folder, or the replacement itself. */
export const placeText = ({ destination, root }: { readonly destination: string; readonly root: string }): string =>
  `“${destination || root}”`;

/** Where files were read again from, as far as it was not the device itself. */
export const fromMemoryText = ({ fromMemory }: Pick<Counts, "fromMemory">): string =>
  `${countText(fromMemory)} of these files ${fromMemory === 1 ? "was" : "were"} read again from the computer’s memory and not from the device: the destination allows no other way. Take the device out, connect it again, and read all of them again.`;

/** Where one file was read again from; null: it was not. */
export const readBackText = ({ fromDevice }: Pick<Result, "fromDevice">): string | null =>
  fromDevice === null ? null : fromDevice ? "device" : "memory";

/** Lost files by what is left of them. */
type Lost = Readonly<Record<Condition, number>>;
export const lostTotal = (lost: Lost): number => Object.values(lost).reduce((sum, count) => sum + count, 0);

/** How many lost files were found, and of how many something is left: the same words wherever they are counted. */
export function lostText(lost: Lost): string {
  const total = lostTotal(lost);
  if (total === 0) return "no lost files found";
  const names = lost["name-only"];
  const content = total - names;
  return names === 0
    ? `${countText(content)} lost ${content === 1 ? "file" : "files"} found`
    : `${countText(content)} lost ${content === 1 ? "file" : "files"} found, of ${countText(names)} more only the name`;
}

/** How a copy is called in the list: a live file nobody has looked into is in place, which is all its record says. */
export function standingText(item: {
  condition: Condition;
  survival: number;
  live: boolean;
  opens: "yes" | "no" | "unknown" | null;
}): string {
  if (item.live && item.condition === "whole" && item.opens === null) return "in place";
  return conditionText(item.condition, item.survival);
}

/** What the rows of a database can be, one of them and all. */
export const ENTRY_WORDS: Readonly<Record<EntryKind, { readonly one: string; readonly many: string }>> = {
  messages: { one: "message", many: "Messages" },
  visits: { one: "visit", many: "Pages visited" },
  sites: { one: "site", many: "Sites it kept things of" },
  transfers: { one: "file", many: "Files sent and received" },
  contacts: { one: "contact", many: "Contacts" },
  notes: { one: "note", many: "Notes" },
};

const LEFT_WORDS: Readonly<Record<"whole" | "part" | "guess", string>> = {
  whole: "deleted, all of it stands",
  part: "deleted, not all of it stands",
  guess: "deleted, partly a guess",
};
/** Of rows whose table was dropped or changed since: what they say may count in another. */
const FORMER_WORDS: typeof LEFT_WORDS = {
  whole: "of a former table, all of it stands",
  part: "of a former table, not all of it stands",
  guess: "of a former table, partly a guess",
};

/** Of rows that count: on a damaged page it may not be known which of several tables one is of. */
const LIVE_WORDS: typeof LEFT_WORDS = { whole: "", part: "not all of it stands", guess: "perhaps of another table" };

/** What is to be known of a row before it is believed; "" for one that counts and stands. */
export function rowStateText({
  state,
  confidence,
  uncommitted,
  former,
}: Pick<Row, "state" | "confidence" | "uncommitted" | "former">): string {
  if (state === "live") return LIVE_WORDS[confidence];
  return uncommitted ? "written, never committed" : (former ? FORMER_WORDS : LEFT_WORDS)[confidence];
}

/** How a file of the job is like one that a database speaks of. None is proof: what it held is written nowhere. */
export const LIKENESS_WORDS: Readonly<Record<(typeof LIKENESS)[number], string>> = {
  "name-size": "same name and size",
  "size-type": "same size and type, another name",
  name: "same name, larger",
  part: "same name, shorter: perhaps a part of it",
  "name-only": "same name; its size is not known",
};
