import type { FileRecord } from "../filesystems/file-record";
import { nameOnly, type PlacedFind } from "./placed-copy";
import { type BinRecord, type IndexedBinRecord, readBinIndex, readBinRecord } from "./windows-bin";

type Read = (record: FileRecord, most?: number) => Uint8Array | null;

/** `$I` and `$R`, then six letters or figures, then the old extension. */
const PAIRED = /^\$([IR])([0-9A-Z]{6}(?:\..*)?)$/i;
/** The older bin's names: D, the letter of the drive, a number, the old extension. */
const INDEXED = /^(D[a-z]\d+)(?:\..*)?$/i;
const MAX_RECORD = 1 << 17;

interface Noted extends BinRecord {
  readonly record: FileRecord;
  used: boolean;
}

/**
 * What the paired records of bins describe: each content under its old path, what lay in a deleted folder under the folder's, a
 * content whose record is gone under the name it has in the bin, and a record whose content is gone by its name alone.
 */
export function binCopies(records: readonly FileRecord[], read: Read): PlacedFind[] {
  const noted = new Map<string, Noted[]>();
  const own = new Map<string, number>();
  for (const record of records) {
    const match = PAIRED.exec(record.name);
    if (record.type === "folder" || match?.[1]?.toUpperCase() !== "I") continue;
    const bytes = read(record, MAX_RECORD);
    const stated = bytes && readBinRecord(bytes);
    if (!stated) continue;
    const key = keyOf(record.path, match[2] as string);
    noted.set(key, [...(noted.get(key) ?? []), { ...stated, record, used: false }]);
    const letter = stated.original[0]?.toUpperCase() ?? "";
    own.set(letter, (own.get(letter) ?? 0) + 1);
  }
  const place = pathBelow(own);
  const found: PlacedFind[] = [];
  for (const record of records) {
    const match = /^(.*)\/\$R(?!ecycle\.Bin)([0-9A-Z]{6}(?:\.[^/]*)?)((?:\/.*)?)$/i.exec(record.path);
    if (!match) continue;
    const [, bin = "", suffix = "", inside = ""] = match;
    const candidates = noted.get(keyOf(`${bin}/x`, suffix)) ?? [];
    // A name may have been given twice over the years: a live content belongs to a live record.
    const note = candidates.find((each) => each.record.state === record.state) ?? candidates[0];
    if (note && inside === "") note.used = true;
    // A folder is known by what lies in it.
    if (record.type === "folder") continue;
    if (!note) {
      found.push({
        record,
        path: record.path,
        modified: record.modified,
        notes: ["The bin's record of it is gone: its old name and folder are not known."],
      });
      continue;
    }
    found.push({ record, path: `${place(note.original)}${inside}`, modified: record.modified, deletedAt: note.deletedAt, notes: [] });
  }
  const folders = new Set(
    records.flatMap((record) => (record.type === "folder" && /^\$R/i.test(record.name) ? [record.path.toLowerCase()] : [])),
  );
  for (const notes of noted.values())
    for (const { record, original, size, deletedAt, used } of notes) {
      if (used || folders.has(record.path.replace(/\$I([^/]*)$/i, "$R$1").toLowerCase())) continue;
      found.push({
        record: nameOnly(record, size),
        path: place(original),
        modified: null,
        deletedAt,
        notes: ["Only the bin's record of it is left: its content is not in the bin any more."],
      });
    }
  return found;
}

/** What the single index of an older bin describes. */
export function indexedCopies(records: readonly FileRecord[], read: Read): PlacedFind[] {
  const noted = new Map<string, IndexedBinRecord>();
  const own = new Map<string, number>();
  for (const record of records) {
    if (!/^INFO2?$/i.test(record.name)) continue;
    const bytes = read(record);
    for (const each of bytes ? readBinIndex(bytes) : []) {
      noted.set(keyOf(record.path, each.held), each);
      const letter = each.original[0]?.toUpperCase() ?? "";
      own.set(letter, (own.get(letter) ?? 0) + 1);
    }
  }
  const place = pathBelow(own);
  return records.flatMap((record): PlacedFind[] => {
    const match = /^(.*\/(?:RECYCLER\/[^/]+|RECYCLED))\/(D[a-z]\d+)((?:\.[^/]*)?)((?:\/.*)?)$/i.exec(record.path);
    if (!match || record.type === "folder") return [];
    const [, bin = "", held = "", , inside = ""] = match;
    const note = noted.get(keyOf(`${bin}/x`, held));
    if (!note)
      return INDEXED.test(record.name)
        ? [
            {
              record,
              path: record.path,
              modified: record.modified,
              notes: ["The bin's index does not tell of it: its old name and folder are not known."],
            },
          ]
        : [];
    return [{ record, path: `${place(note.original)}${inside}`, modified: record.modified, deletedAt: note.deletedAt, notes: [] }];
  });
}

const keyOf = (path: string, suffix: string) => `${path.slice(0, path.lastIndexOf("/"))}/${suffix}`.toLowerCase();

/** Each volume has a bin of its own: the letter most of its records name is the volume's, another one means another volume. */
function pathBelow(letters: ReadonlyMap<string, number>): (original: string) => string {
  const own = [...letters].sort((a, b) => b[1] - a[1])[0]?.[0];
  return (original) => {
    const plain = original.replaceAll("\\", "/");
    const drive = /^([A-Za-z]):\//.exec(plain)?.[1]?.toUpperCase();
    if (!drive) return `/${plain.replace(/^\/+/, "")}`;
    return drive === own ? plain.slice(2) : `/${drive}_${plain.slice(2)}`;
  };
}
