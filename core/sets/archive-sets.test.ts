import { createHash } from "node:crypto";
import { mkdtempSync, readdirSync, readFileSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import { afterAll, describe, expect, it } from "vitest";
import { setTruth, unpackSet } from "../../tests/support/set-truth";
import { fixture } from "../../tests/support/volume-truth";
import { type ByteSource, MemorySource, readBytes } from "../bytes/byte-source";
import { numberCheckpoint } from "../bytes/checkpoint";
import { type Layout, LayoutSource, layoutOf, type Segment } from "../bytes/layout";
import { decodeLayout, encodeLayout } from "../bytes/layout-code";
import { ALL_BYTES_THERE, type FileRecord, likeliest, placed } from "../filesystems/file-record";
import type { FileTree } from "../places/file-tree";
import { ArchiveSetsFinder } from "./archive-sets";
import type { BackupSet } from "./backup-set";

const work = mkdtempSync(join(tmpdir(), "compass-archive-sets-"));
afterAll(() => rmSync(work, { recursive: true, force: true }));
const sha256 = (bytes: Uint8Array) => createHash("sha256").update(bytes).digest("hex");
const contentOf = (source: ByteSource) => readBytes(source, 0, source.size);

/** A drive with files that lie in pieces, the pieces of all of them in turns, as a volume's tree gives them. */
function driveOf(files: ReadonlyMap<string, Uint8Array>, piece: number): FileTree {
  const total = [...files.values()].reduce((sum, { length }) => sum + Math.ceil(length / piece) * piece, piece);
  const bytes = new Uint8Array(total).fill(0xa5);
  const laid = new Map([...files.keys()].map((path): [string, Segment[]] => [path, []]));
  let at = piece;
  for (let from = 0; at < total; from += piece)
    for (const [path, content] of files) {
      const part = content.subarray(from, from + piece);
      if (part.length === 0) continue;
      bytes.set(part, at);
      laid.get(path)?.push({ kind: "disk", at, length: part.length });
      at += piece;
    }
  const disk = new MemorySource(bytes);
  const records = [...files].map(([path, content]): FileRecord => recordOf(path, layoutOf(laid.get(path) ?? [], content.length)));
  return {
    serial: null,
    disk,
    *readRecords() {
      yield { records, resume: numberCheckpoint(1), done: 1, total: 1 };
    },
    open: (record) => {
      const layout = likeliest(record)?.layout;
      return layout ? { content: new LayoutSource(disk, layout), close: () => undefined } : null;
    },
  };
}

function recordOf(path: string, layout: Layout): FileRecord {
  const name = path.slice(path.lastIndexOf("/") + 1);
  return {
    reference: path,
    state: "live",
    type: "file",
    path,
    name,
    rawName: new TextEncoder().encode(name),
    size: layout.size,
    created: null,
    modified: Date.UTC(2026, 3, 2),
    changed: null,
    content: placed(layout, ALL_BYTES_THERE),
    system: false,
    streams: [],
    links: 1,
    notes: [],
  };
}

function setsOn(tree: FileTree): BackupSet[] {
  const finder = new ArchiveSetsFinder();
  for (const { records } of tree.readRecords(null, 1)) for (const record of records) finder.note(record);
  return finder.found(tree);
}

/** Reads every file of every state by the place that is stored of it, and holds it to what the set itself opens. */
function readByPlace(tree: FileTree): { readonly same: Map<string, number>; readonly hashes: Set<string>; without: string[] } {
  const same = new Map<string, number>();
  const hashes = new Set<string>();
  const without: string[] = [];
  for (const set of setsOn(tree))
    for (const state of set.states)
      for (const { record } of set.standingIn(state, tree)) {
        if (record.type !== "file" || record.size === 0 || record.content.kind !== "placed") continue;
        const place = set.placeOf?.(record, tree);
        if (!place) {
          without.push(`${state.label}: ${record.path}`);
          continue;
        }
        const own = contentOf(set.open?.(record, tree)?.content as ByteSource);
        const stored = new LayoutSource(tree.disk, decodeLayout(encodeLayout(place.layout)));
        expect(stored.size, record.path).toBe(record.size);
        // From its middle first, as a preview may ask.
        expect(readBytes(stored, own.length >> 1, 100)).toEqual(own.slice(own.length >> 1, (own.length >> 1) + 100));
        expect(Buffer.from(contentOf(stored)).equals(own), record.path).toBe(true);
        expect(stored.unreadable(0, stored.size)).toEqual([]);
        hashes.add(sha256(own));
        same.set(state.label, (same.get(state.label) ?? 0) + 1);
      }
  return { same, hashes, without };
}

describe("a file of an archive of a set is read again by what is stored of it", () => {
  it("out of archives compressed as a whole, on a drive on which they lie in pieces", () => {
    const folder = unpackSet("archives", work);
    const names = readdirSync(folder).filter((name) => /\.tar(\.gz|\.bz2|\.xz)?$/.test(name));
    expect(names.length).toBeGreaterThan(5);
    const tree = driveOf(new Map(names.map((name) => [`/Backup/${name}`, readFileSync(join(folder, name))])), 12_288);
    const { same, hashes, without } = readByPlace(tree);
    for (const name of names.filter((each) => !each.includes("2026-02-14"))) expect(same.get(name), name).toBeGreaterThan(2);
    // The archive that is cut off gives what stands before that.
    expect(same.get("backup-2026-02-14.tar.gz")).toBeGreaterThan(40);
    expect(without.length).toBeLessThan(3);
    const known = new Set(setTruth("archives").files.flatMap(({ versions }) => versions.map((version) => version.sha256)));
    const exact = [...hashes].filter((hash) => known.has(hash)).length;
    expect(exact / hashes.size).toBeGreaterThan(0.95);
  });

  it("out of TARs that keep files without their holes, also compressed as a whole", () => {
    const { files, archives } = JSON.parse(fixture("sparse-tars.json.gz").toString()) as {
      files: Record<string, { sha256: string }>;
      archives: Record<string, string>;
    };
    const forms = Object.values(archives).map((coded, day): [string, Uint8Array] => {
      const plain = Buffer.from(coded, "base64");
      const isPacked = day % 2 === 1;
      return [`/Backup/plates-2026-04-0${day + 1}.tar${isPacked ? ".gz" : ""}`, isPacked ? gzipSync(plain) : plain];
    });
    const { same, hashes, without } = readByPlace(driveOf(new Map(forms), 4096));
    expect(without).toEqual([]);
    expect([...same.values()]).toEqual(forms.map(() => 6));
    const known = new Set(Object.values(files).map(({ sha256 }) => sha256));
    for (const hash of hashes) expect(known.has(hash)).toBe(true);
  });

  it("out of ZIPs that are split over several files", () => {
    const parts = ["z01", "z02", "zip"].map((end): [string, Uint8Array] => [
      `/Backup/home-2026-04-01.${end}`,
      readFileSync(join(import.meta.dirname, `../../tests/fixtures/backups/zip-split.${end}`)),
    ]);
    const { same, without } = readByPlace(driveOf(new Map(parts), 4096));
    expect([...same.values()].reduce((sum, count) => sum + count, 0)).toBeGreaterThan(5);
    expect(without).toEqual([]);
  });

  it("out of ZIPs whose files are packed in each of the ways that are followed, large ones too", () => {
    const bytes = readFileSync(join(import.meta.dirname, "../../tests/fixtures/backups/zip-methods.zip"));
    const tree = driveOf(new Map([["/Backup/papers-2026-04-01.zip", bytes]]), 4096);
    const { same, hashes, without } = readByPlace(tree);
    expect(without).toEqual([]);
    expect(same.get("papers-2026-04-01.zip")).toBe(17);
    // Of the files as 7-Zip 26.01 takes them out: `sha256sum` of each, sorted, a space behind each, and of that again.
    const all = [...hashes].sort().map((hash) => `${hash} `);
    expect(sha256(Buffer.from(all.join("")))).toBe("5e15a11610ab795867f2a9a6e54e56990da1e028c865ae8ee9fb54fa646b31f3");
  });

  it("says that bytes are missing where the drive refuses some of the archive's, or it is gone", () => {
    const folder = unpackSet("archives", work);
    const packed = readFileSync(join(folder, "pictures.20260220.tar.bz2"));
    const layout: Layout = { size: 1000, segments: [{ kind: "packed", at: 512, length: 1000, from: [{ at: 0, length: packed.length }] }] };
    const sound = new LayoutSource(new MemorySource(packed), layout);
    expect(sound.unreadable(0, 1000)).toEqual([]);
    expect(readBytes(sound, 0, 4).some((byte) => byte !== 0)).toBe(true);
    const bad = new MemorySource(packed, [{ start: 2048, end: 2560 }]);
    expect(new LayoutSource(bad, layout).unreadable(0, 1000)).toEqual([{ start: 0, end: 1000 }]);
    const written = new LayoutSource(new MemorySource(new Uint8Array(packed.length)), layout);
    expect(written.unreadable(0, 1000)).toEqual([{ start: 0, end: 1000 }]);
    expect(readBytes(written, 0, 1000).every((byte) => byte === 0)).toBe(true);
  });
});
