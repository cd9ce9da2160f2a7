import { readBytes } from "../bytes/byte-source";
import { type Checkpoint, isNumberCheckpoint, readTextCheckpoint, textCheckpoint } from "../bytes/checkpoint";
import { Malformed } from "../bytes/malformed";
import type { Copy } from "../copies/copy";
import type { CopyBatch } from "../copies/file-records-pass";
import type { Place } from "../copies/vocabulary";
import type { FileRecord } from "../filesystems/file-record";
import { binCopies, indexedCopies } from "./bin-copies";
import { isVersionDatabase, type KnownVersion, knownVersions } from "./document-versions";
import type { FileTree } from "./file-tree";
import { macBinCopies } from "./mac-bin";
import { nameParts, RuleMatcher } from "./match";
import { readOwnerFile } from "./owner-file";
import { nameOnly, type PlacedFind, placedCopy } from "./placed-copy";
import { LISTS, listedFiles } from "./recent-files";
import { rightName } from "./right-name";
import type { PlaceRule } from "./rule";
import { Surroundings } from "./surroundings";

const STEP = 512;
/** Files in known places beyond this are left to the pass over file records. */
const MOST_HITS = 400_000;
/** Bytes of a record, link or list that are read at most. */
const MAX_READ = 16 << 20;

/** Where a copy comes in the pass: by the kind of reader, then by the path and reference of the file that was found. Kept as a checkpoint. */
type Order = readonly [phase: number, path: string, reference: string];

const PHASE = { files: 0, windowsBin: 1, versions: 2, macBin: 3 } as const;
const BEFORE_ALL: Order = [-1, "", ""];

function compareOrder(a: Order, b: Order): number {
  for (const index of [0, 1, 2] as const) {
    const [one, other] = [a[index], b[index]];
    if (one !== other) return one < other ? -1 : 1;
  }
  return 0;
}

/** The last copy that was given. A count, which checkpoints once were, says nothing about a tree that has changed since: all is gone through again. */
function lastGiven(from: Checkpoint | null): Order {
  if (from === null || isNumberCheckpoint(from)) return BEFORE_ALL;
  const [phase, path, reference] = readTextCheckpoint(from) as unknown[];
  if (typeof phase !== "number" || typeof path !== "string" || typeof reference !== "string")
    throw new Malformed("This checkpoint is not of this reader.");
  return [phase, path, reference];
}

export interface Hit {
  readonly rule: PlaceRule;
  readonly record: FileRecord;
}

/**
 * The pass "known places": what bins, autosave and temporary folders, backups beside the original and recent lists hold, under
 * the right names. Goes through the records twice (the files in known places, then what is around them) before the first copy.
 * @param only the places whose copies are reported; the lists of recent files are read in any case, for the names they give
 * @param from from an earlier batch's `resume`: goes on behind the copy given last, whatever has changed in the tree meanwhile
 */
export function* placesPass(
  tree: FileTree,
  rules: readonly PlaceRule[],
  from: Checkpoint | null = null,
  step = STEP,
  only?: readonly Place[],
): Generator<CopyBatch, void, void> {
  let last = lastGiven(from);
  const before = textCheckpoint(last);
  const matcher = new RuleMatcher(rules);
  const hits: Hit[] = [];
  let records = 0;
  for (const batch of tree.readRecords(null, step)) {
    for (const record of batch.records) {
      const rule = hits.length < MOST_HITS && !record.system ? matcher.ruleOf(record.path) : null;
      if (rule && (LISTS.has(rule.reader) || !only || only.includes(rule.place))) hits.push({ rule, record });
    }
    records = Math.max(1, batch.total);
    yield { copies: [], resume: before, done: batch.done, total: 3 * records };
  }
  const around = new Surroundings(hits);
  for (const { rule, record } of hits)
    if (LISTS.has(rule.reader)) for (const { path } of listedIn(tree, rule, record)) around.addNamed(path);
  if (around.wanted)
    for (const batch of tree.readRecords(null, step)) {
      for (const record of batch.records) around.add(record);
      yield { copies: [], resume: before, done: records + batch.done, total: 3 * records };
    }
  let copies: Copy[] = [];
  const start = last;
  for (const { copy, hit, order } of copiesOfHits(tree, hits, around)) {
    if ((only && !only.includes(copy.place)) || compareOrder(order, start) <= 0) continue;
    // Copies of one file stay together: a checkpoint names the file.
    if (copies.length >= step && compareOrder(order, last) !== 0) {
      const done = 2 * records + Math.min(records, Math.floor((records * hit) / hits.length));
      yield { copies, resume: textCheckpoint(last), done, total: 3 * records };
      copies = [];
    }
    copies.push(copy);
    last = order;
  }
  yield { copies, resume: textCheckpoint(last), done: 3 * records, total: 3 * records };
}

interface OrderedCopy {
  readonly copy: Copy;
  /** Hits gone through. */
  readonly hit: number;
  readonly order: Order;
}

/** All copies of the hits in their order. */
function* copiesOfHits(tree: FileTree, unordered: readonly Hit[], around: Surroundings): Generator<OrderedCopy, void, void> {
  const orderOf = (phase: number, { path, reference }: FileRecord): Order => [phase, path, reference];
  const hits = [...unordered].sort((a, b) => compareOrder(orderOf(0, a.record), orderOf(0, b.record)));
  const sorted = (finds: readonly PlacedFind[]) =>
    [...finds].sort((a, b) => compareOrder(orderOf(0, a.record), orderOf(0, b.record)) || (a.path < b.path ? -1 : 1));
  const windowsBin: FileRecord[] = [];
  const macBin: FileRecord[] = [];
  const versions: FileRecord[] = [];
  const rules: Partial<Record<PlaceRule["reader"], PlaceRule>> = {};
  let hit = 0;
  for (const { rule, record } of hits) {
    rules[rule.reader] = rule;
    hit += 1;
    if (rule.reader === "windows-bin") windowsBin.push(record);
    else if (rule.reader === "mac-bin") macBin.push(record);
    else if (rule.reader === "document-versions") versions.push(record);
    else for (const copy of copiesOfHit(tree, rule, record, around)) yield { copy, hit, order: orderOf(PHASE.files, record) };
  }
  const read = (record: FileRecord, most = MAX_READ) => readRecord(tree, record, most);
  if (rules["windows-bin"]) {
    const finds = sorted([...binCopies(windowsBin, read), ...indexedCopies(windowsBin, read)]);
    for (const each of finds)
      yield { copy: placedCopy(each, rules["windows-bin"], tree), hit, order: orderOf(PHASE.windowsBin, each.record) };
  }
  const ofVersions = rules["document-versions"];
  if (ofVersions) {
    const known = knownVersions(versions, (record) => tree.open(record));
    for (const record of versions) {
      const find = versionFile(tree, ofVersions, record, known.get(record), around);
      if (find) yield { copy: placedCopy(find, ofVersions, tree), hit, order: orderOf(PHASE.versions, record) };
    }
  }
  if (rules["mac-bin"])
    for (const each of sorted(macBinCopies(macBin, read)))
      yield { copy: placedCopy(each, rules["mac-bin"], tree), hit, order: orderOf(PHASE.macBin, each.record) };
}

function readRecord(tree: FileTree, record: FileRecord, most: number): Uint8Array | null {
  if (record.type === "folder" || record.size > most) return null;
  const opened = tree.open(record);
  if (!opened) return null;
  try {
    return readBytes(opened.content, 0, Math.min(opened.content.size, most));
  } finally {
    opened.close();
  }
}

function copiesOfHit(tree: FileTree, rule: PlaceRule, record: FileRecord, around: Surroundings): Copy[] {
  if (record.type === "folder") return [];
  if (rule.reader === "file" || rule.reader === "owner") {
    const find = rule.reader === "owner" ? ownerFile(tree, rule, record, around) : heldFile(tree, rule, record, around);
    return find ? [placedCopy(find, rule, tree)] : [];
  }
  return listedIn(tree, rule, record).map((find) => placedCopy(find, rule, tree));
}

/** The files a list of recent ones names. */
function listedIn(tree: FileTree, rule: PlaceRule, record: FileRecord): PlacedFind[] {
  const bytes = readRecord(tree, record, MAX_READ);
  return bytes ? listedFiles(bytes, rule, record, tree.serial) : [];
}

/** A file that is a copy itself: under the right name, in the folder of what it is a copy of where that is known. */
function heldFile(tree: FileTree, rule: PlaceRule, record: FileRecord, around: Surroundings): PlacedFind | null {
  if (record.size === 0) return null;
  const opened = tree.open(record);
  try {
    const right = rightName(record.name, rule.naming, opened?.content ?? null);
    const folder = folderOf(record.path);
    const notes: string[] = [];
    let path = `${folder}/${right.name}`;
    const original =
      rule.ties === "beside"
        ? around.beside(folder, right, record.name)
        : rule.ties === "by-name"
          ? around.named(right, record.path)
          : null;
    if (original) {
      path = original;
      if (rule.ties === "by-name") notes.push("Taken for a copy of this file because of its name: it is the only one called so.");
    }
    if (right.dated !== null)
      notes.push(`Its name tells when it was made: ${new Date(right.dated).toISOString().slice(0, 19).replace("T", " ")}.`);
    return { record, path, modified: right.dated ?? record.modified, notes };
  } finally {
    opened?.close();
  }
}

/** A version of a document: under the document's name in its folder, where that is known. */
function versionFile(
  tree: FileTree,
  rule: PlaceRule,
  record: FileRecord,
  known: KnownVersion | undefined,
  around: Surroundings,
): PlacedFind | null {
  if (record.type === "folder" || record.size === 0 || isVersionDatabase(record)) return null;
  if (known?.path) return { record, path: known.path, modified: record.modified ?? known.kept, notes: [known.note] };
  const find = heldFile(tree, rule, record, around);
  return find && { ...find, notes: [...find.notes, ...(known ? [known.note] : [])] };
}

/** What an owner's file says is kept as a note; the document it stands beside becomes an item known by name. */
function ownerFile(tree: FileTree, rule: PlaceRule, record: FileRecord, around: Surroundings): PlacedFind | null {
  const bytes = readRecord(tree, record, 4096);
  const owner = bytes && readOwnerFile(bytes);
  const groups = nameParts(record.name, rule.naming.pattern);
  const folder = folderOf(record.path);
  const path = groups.name ? `${folder}/${groups.name}` : groups.tail ? around.endingWith(folder, groups.tail) : null;
  if (!path) return null;
  const since = owner?.since ? ` since ${owner.since}` : "";
  const who = owner ? `${owner.user}${owner.host ? ` on ${owner.host}` : ""} had it open${since}.` : "Somebody had it open.";
  return { record: nameOnly(record, 0), path, modified: record.modified, notes: [who] };
}

const folderOf = (path: string) => path.slice(0, Math.max(0, path.lastIndexOf("/")));
