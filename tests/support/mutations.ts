import { readFileSync } from "node:fs";
import { join } from "node:path";
import { gunzipSync } from "node:zlib";
import { type ByteSource, MemorySource, readBytes } from "../../core/bytes/byte-source";
import { LayoutSource } from "../../core/bytes/layout";
import { ContainerError } from "../../core/containers/container";
import { openContainer } from "../../core/containers/open-container";
import { openPacked } from "../../core/containers/packed";
import { fileRecordsPass, leftoversPass } from "../../core/copies/file-records-pass";
import { isSound } from "../../core/filesystems/apfs/objects";
import { type FileSystem, FileSystemError } from "../../core/filesystems/file-record";
import { inspectDisk, openVolume } from "../../core/volumes/inspect";
import { seeded } from "../../demo/draw";
import { backupFile } from "./backup-truth";
import { unpackBlocks } from "./blocks";
import { macFixture, macStructures } from "./mac-truth";
import { objectChecksum } from "./object-checksum";
import { database, settingsFile } from "./record-mutations";
import { snapshotTruth, snapshotVolume } from "./snapshot-truth";
import { below, type Subject } from "./subject";
import { leastTime } from "./thread-time";
import { fixture } from "./volume-truth";

/** Values that break careless arithmetic, besides random ones. */
const NASTY = [0, 1, 0x7f, 0x80, 0xe5, 0xff];

/** Reads everything of a disk's volumes, as the passes would, and something of every content. */
export function readDisk(bytes: Uint8Array): number {
  const disk = new MemorySource(bytes);
  let copies = 0;
  for (const report of inspectDisk(disk).volumes) {
    try {
      const volume = openVolume(disk, report);
      for (const finding of volume.findings?.() ?? []) if (!(finding.count > 0)) throw new Error("a finding that was not found");
      copies += readVolume(volume, disk);
    } catch (error) {
      // The one way in which a volume may refuse: in words.
      if (!(error instanceof FileSystemError)) throw error;
    }
  }
  return copies;
}

function readVolume(volume: FileSystem, disk: ByteSource): number {
  let copies = 0;
  for (const pass of [fileRecordsPass(volume, disk), leftoversPass(volume, disk)])
    for (const batch of pass)
      for (const copy of batch.copies) {
        copies += 1;
        if (!(copy.survival >= 0 && copy.survival <= 1)) throw new Error(`a share of ${copy.survival} survives`);
        if (copy.layout) readBytes(new LayoutSource(disk, copy.layout), Math.max(0, copy.layout.size - 64), 64);
      }
  return copies;
}

/** Opens a container and reads it here and there. */
function readContainer(bytes: Uint8Array): number {
  const into = new Uint8Array(4096);
  try {
    const { disk } = openContainer(new MemorySource(bytes));
    for (const at of [0, 4095, Math.floor(disk.size / 2), Math.max(0, disk.size - 4096)]) disk.read(at, into);
    return 1;
  } catch (error) {
    if (!(error instanceof ContainerError)) throw error;
    return 0;
  }
}

function container(name: string): Subject {
  const made = JSON.parse(fixture("containers.json.gz").toString()) as Record<string, { gzip: string }>;
  const bytes = new Uint8Array(gunzipSync(Buffer.from(made[name]?.gzip ?? "", "base64")));
  // The structures stand at the beginning, at the end and around the first MiB borders.
  const places = [
    (random: () => number) => below(random, 2048),
    (random: () => number) => bytes.length - 512 + below(random, 512),
    (random: () => number) => 65_536 + below(random, 300 * 1024),
    (random: () => number) => (1 + below(random, 4)) * (1 << 20) + below(random, 70_000),
  ];
  return {
    bytes,
    place: (random) => (places[below(random, places.length)] as (typeof places)[number])(random) % bytes.length,
    read: readContainer,
  };
}

function ntfs(): Subject {
  const bytes = Uint8Array.from(fixture("tiny-ntfs.img.gz"));
  const mftAt = new DataView(bytes.buffer).getUint32(0x30, true) * 512;
  return {
    bytes,
    // Mostly where it hurts: the boot sector and the file table; sometimes anywhere.
    place: (random) => {
      const where = random();
      return where < 0.1 ? below(random, 96) : where < 0.9 ? mftAt + below(random, 70 * 1024) : below(random, bytes.length);
    },
    read: readDisk,
  };
}

function fat(): Subject {
  const bytes = Uint8Array.from(fixture("fat12.img.gz"));
  return {
    bytes,
    place: (random) => {
      const where = random();
      return where < 0.2 ? below(random, 64) : where < 0.9 ? 512 + below(random, 24_000) : below(random, bytes.length);
    },
    read: readDisk,
  };
}

/** The beginning of the demo's stick: few files, so that many rounds take little time. */
function exfat(): Subject {
  const image = gunzipSync(readFileSync(join(import.meta.dirname, "../../demo/images/newsletter-stick.img.gz")));
  const bytes = Uint8Array.from(image.subarray(1 << 20, (1 << 20) + (4 << 20)));
  const heads: number[] = [];
  for (let at = 0; at + 64 < bytes.length; at += 32)
    if (((bytes[at] as number) | 0x80) === 0x85 && ((bytes[at + 32] as number) | 0x80) === 0xc0) heads.push(at);
  return {
    bytes,
    place: (random) => {
      const where = random();
      return where < 0.15
        ? 64 + below(random, 60)
        : where < 0.75
          ? (heads[below(random, heads.length)] as number) + below(random, 96)
          : below(random, bytes.length);
    },
    read: readDisk,
  };
}

/** The part of a small volume that holds its structures and its files: what lies behind is free. */
function hfsPlus(): Subject {
  const bytes = macStructures("hfsplus-small").slice(0, 800 << 10);
  const view = new DataView(bytes.buffer);
  const catalogAt = view.getUint32(1024 + 272 + 16) * view.getUint32(1024 + 40);
  return {
    bytes,
    place: (random) => {
      const where = random();
      if (where < 0.2) return 1024 + below(random, 512);
      return where < 0.9 ? catalogAt + below(random, 6 * 4096) : below(random, bytes.length);
    },
    read: readDisk,
  };
}

/** Where the journal of that volume begins: its first fields are the mark, the byte order, and where what waits begins and ends. */
const JOURNAL_AT = 12_288;

/** A journal with changes that wait, and old content. */
function hfsPlusJournal(): Subject {
  const bytes = macStructures("journal-bigendian").slice(0, 1800 << 10);
  // Of the old content some is enough: each round goes through all of it.
  const view = new DataView(bytes.buffer);
  const [start, end] = [view.getUint32(JOURNAL_AT + 12), view.getUint32(JOURNAL_AT + 20)];
  bytes.fill(0, JOURNAL_AT + end + (64 << 10), JOURNAL_AT + start);
  return {
    bytes,
    place: (random) => {
      const where = random();
      return where < 0.3 ? 8192 + below(random, 4608) : where < 0.8 ? JOURNAL_AT + below(random, 512 << 10) : below(random, bytes.length);
    },
    read: readDisk,
  };
}

/** The blocks of a small container that are in use. Most changes get past the checksums. */
function apfs(): Subject {
  const bytes = macStructures("apfs-checkpoints").slice(0, 586 * 4096);
  const view = new DataView(bytes.buffer);
  const objects: number[] = [];
  for (let at = 0; at + 4096 <= bytes.length; at += 4096)
    if (isSound(bytes.subarray(at, at + 4096)) && view.getUint32(at, true) !== 0) objects.push(at);
  return {
    bytes,
    place: (random) => {
      const block = objects[below(random, objects.length)] as number;
      // The newest objects are those that are read: they stand at the ends.
      const where = random();
      const near =
        where < 0.4
          ? (objects[below(random, Math.min(24, objects.length))] as number)
          : where < 0.8
            ? (objects.at(-1 - below(random, 24)) as number)
            : block;
      return near + below(random, random() < 0.5 ? 256 : 4096);
    },
    seal: (all, at) => {
      const block = at - (at % 4096);
      return { at: block, sum: objectChecksum(all.subarray(block, block + 4096)) };
    },
    read: readDisk,
  };
}

function diskImage(name: string): Subject {
  const { files } = (JSON.parse(macFixture("disk-images.json.gz").toString()) as Record<string, { files: Record<string, string> }>)[
    name
  ] ?? { files: {} };
  const bytes = Uint8Array.from(Buffer.from(Object.values(files)[0] ?? "", "base64"));
  return {
    bytes,
    // The head, the trailer, and the list before it.
    place: (random) => {
      const where = random();
      return where < 0.2
        ? below(random, 4096) % bytes.length
        : where < 0.8
          ? bytes.length - 1 - below(random, 8192)
          : below(random, bytes.length);
    },
    read: readContainer,
  };
}

/** A volume with three snapshots: their catalog, headers, lists and ranges are damaged, and the states read. */
function ntfsSnapshots(): Subject {
  const bytes = snapshotVolume("main").slice();
  const catalogAt = Number(new DataView(bytes.buffer).getBigUint64(0x1e00 + 48, true));
  const lists = snapshotTruth.snapshots.flatMap(({ blockListOffsets }) => blockListOffsets);
  const heads = [catalogAt, ...snapshotTruth.snapshots.flatMap(({ headerOffset, rangesOffset }) => [headerOffset, rangesOffset]), ...lists];
  let turn = 0;
  return {
    bytes,
    place: (random) => {
      const where = random();
      if (where < 0.05) return 0x1e00 + below(random, 128);
      if (where < 0.3) return catalogAt + below(random, 1024);
      if (where < 0.5) return (heads[below(random, heads.length)] as number) + below(random, 192);
      return (lists[below(random, lists.length)] as number) + below(random, 16_384);
    },
    read(all) {
      const disk = new MemorySource(all);
      const place = { filesystem: "ntfs", offset: 0, length: all.length } as const;
      const states = openVolume(disk, { ...place, view: null }).states?.() ?? [];
      turn += 1;
      const state = states[turn % Math.max(1, states.length)];
      if (!state) return 0;
      try {
        return readVolume(openVolume(disk, { ...place, view: state.view }), disk);
      } catch (error) {
        if (!(error instanceof FileSystemError)) throw error;
        return 0;
      }
    },
  };
}

/**
 * A backup file or archive, read lightly and thoroughly.
 * @param bytes a small one @param heads where its headers stand @param unpacked what it holds; null: it does not open
 */
function backup(
  bytes: Uint8Array,
  heads: readonly number[],
  seal?: Subject["seal"],
  unpacked: (file: ByteSource) => ByteSource | null = (file) => file,
): Subject {
  return {
    bytes,
    place: (random) =>
      random() < 0.8 ? ((heads[below(random, heads.length)] as number) + below(random, 96)) % bytes.length : below(random, bytes.length),
    ...(seal ? { seal } : {}),
    read(all) {
      const disk = unpacked(new MemorySource(all));
      let found = 0;
      if (!disk) return found;
      for (const report of inspectDisk(disk).volumes) {
        try {
          const volume = openVolume(disk, report);
          found += readVolume(volume, disk);
          for (const { records } of volume.readThorough?.(null, 512) ?? []) found += records.length;
          volume.states?.();
          volume.findings?.();
        } catch (error) {
          if (!(error instanceof FileSystemError)) throw error;
        }
      }
      return found;
    },
  };
}

/** A small medium of the tape format; most changes get past the checksums of its headers. */
function tape(): Subject {
  const bytes = backupFile("tape-small.bkf");
  const view = new DataView(bytes.buffer);
  const heads: number[] = [];
  for (let at = 0; at + 512 <= bytes.length; at += 512) if (view.getUint8(at) >= 0x41 && view.getUint8(at + 3) >= 0x41) heads.push(at);
  return backup(bytes, heads, (all, at) => {
    const block = at - (at % 512);
    let sum = 0;
    for (let word = block; word < block + 50 && word + 1 < all.length; word += 2)
      sum ^= (all[word] as number) | ((all[word + 1] as number) << 8);
    return block + 52 <= all.length ? { at: block + 50, sum: Uint8Array.of(sum & 0xff, sum >> 8) } : null;
  });
}

function zip(name: string): Subject {
  const bytes = backupFile(name);
  const heads: number[] = [];
  for (let at = 0; at + 4 < bytes.length; at += 1)
    if (bytes[at] === 0x50 && bytes[at + 1] === 0x4b && (bytes[at + 2] as number) < 8) heads.push(at);
  return backup(bytes, heads);
}

/** A TAR archive, also packed as a whole; `tests/fixtures/make-small-tars.py`. */
function tar(name: "pax" | "gnu" | "gzip" | "bzip2" | "xz"): Subject {
  const { archives } = JSON.parse(fixture("small-tars.json.gz").toString()) as { archives: Record<string, string> };
  const bytes = Uint8Array.from(Buffer.from(archives[name] as string, "base64"));
  if (name !== "pax" && name !== "gnu") return backup(bytes, [0], undefined, (file) => openPacked(file, "a.tar.gz")?.disk ?? null);
  const heads: number[] = [];
  for (let at = 0; at + 512 <= bytes.length; at += 512)
    if (Buffer.from(bytes).toString("latin1", at + 257, at + 262) === "ustar") heads.push(at);
  const SUM = 148;
  return {
    ...backup(bytes, heads, (all, at) => {
      const block = at - (at % 512);
      if (!heads.includes(block)) return null;
      let sum = 8 * 0x20;
      for (let index = 0; index < 512; index += 1) if (index < SUM || index >= SUM + 8) sum += all[block + index] as number;
      return { at: block + SUM, sum: Buffer.from(`${sum.toString(8).padStart(6, "0")}\0 `, "latin1") };
    }),
    // Of a header: its name, numbers, type, links, and what stands behind it.
    place: (random) => (heads[below(random, heads.length)] as number) + below(random, random() < 0.8 ? 512 : 1024),
  };
}

/** Type of the object that says how a sealed volume's nodes are hashed (`integrity_meta_phys_t`). */
const INTEGRITY_META = 0x1e;

/** A sealed volume whose hashes are of a kind that is not known, so that changes in its nodes are read. */
function sealedApfs(): Subject {
  const bytes = unpackBlocks(macFixture("apfs-features-sealed.blocks.gz"), macStructures("apfs-features"));
  const view = new DataView(bytes.buffer);
  const objects: number[] = [];
  const bare: number[] = [];
  for (let at = 0; at + 4096 <= bytes.length; at += 4096) {
    if (view.getUint32(at + 24, true) === INTEGRITY_META) {
      view.setUint32(at + 40, 0xff, true);
      bytes.set(objectChecksum(bytes.subarray(at, at + 4096)), at);
    }
    if (view.getUint32(at + 24, true) !== 0 && isSound(bytes.subarray(at, at + 4096))) objects.push(at);
    else if ((view.getUint16(at + 32, true) & 0x18) === 0x18 && bytes.subarray(at, at + 32).every((byte) => byte === 0)) bare.push(at);
  }
  return {
    bytes,
    place: (random) => {
      const among = random() < 0.8 ? bare : objects;
      return (among[below(random, among.length)] as number) + below(random, random() < 0.5 ? 256 : 4096);
    },
    seal: (all, at) => {
      const block = at - (at % 4096);
      if (bare.includes(block)) return null;
      return { at: block, sum: objectChecksum(all.subarray(block, block + 4096)) };
    },
    read: readDisk,
  };
}

export const SUBJECTS = {
  tape,
  "zip archive": () => zip("zip-methods.zip"),
  "zip archive of 64 bits": () => zip("zip-64.zip"),
  "tar archive": () => tar("pax"),
  "tar archive of another form": () => tar("gnu"),
  "tar archive packed by gzip": () => tar("gzip"),
  "tar archive packed by bzip2": () => tar("bzip2"),
  "tar archive packed by xz": () => tar("xz"),
  ntfs,
  "ntfs with snapshots": ntfsSnapshots,
  fat,
  exfat,
  vhd: () => container("dynamic.vhd"),
  vhdx: () => container("dynamic.vhdx"),
  "vhdx with a log": () => container("dirty.vhdx"),
  "hfs+": hfsPlus,
  "hfs+ with a journal": hfsPlusJournal,
  apfs,
  "sealed apfs": sealedApfs,
  "compressed disk image": () => diskImage("udif-lzfse-stored"),
  "sparse disk image": () => diskImage("sparseimage-hfsplus"),
  database: () => database("small-pages"),
  "database with a log": () => database("log"),
  "database with a journal": () => database("hot-journal"),
  "binary property list": () => settingsFile("plist"),
  "xml settings": () => settingsFile("xml"),
  "json settings": () => settingsFile("json"),
  "settings a line each": () => settingsFile("ini"),
} as const satisfies Record<string, () => Subject>;
export type SubjectName = keyof typeof SUBJECTS;

export interface Outcome {
  readonly found: number;
  /** Milliseconds of processor time the slowest round took. */
  readonly slowest: number;
  /** Bytes of memory at the worst. */
  readonly memory: number;
}

/**
 * Damages a subject anew in each round, by its number alone, so that any round can be run again by itself; reads it, and mends it.
 * @throws Error naming the round in which a reader did what it must not
 */
export function mutate(name: SubjectName, from: number, to: number): Outcome {
  const subject = SUBJECTS[name]();
  const { bytes } = subject;
  let found = 0;
  let slowest = 0;
  let memory = 0;
  for (let round = from; round < to; round += 1) {
    const random = seeded(20_261_124 + round * 7919);
    const undo: [number, number][] = [];
    for (let changes = 1 + below(random, 6); changes > 0; changes -= 1) {
      const at = subject.place(random);
      undo.push([at, bytes[at] as number]);
      bytes[at] = random() < 0.5 ? (NASTY[below(random, NASTY.length)] as number) : below(random, 256);
    }
    // Now and then a checksum stays wrong, as after real damage.
    if (subject.seal && random() < 0.9)
      for (const [at] of [...undo]) {
        const sealed = subject.seal(bytes, at);
        if (!sealed) continue;
        sealed.sum.forEach((byte, index) => {
          undo.push([sealed.at + index, bytes[sealed.at + index] as number]);
          bytes[sealed.at + index] = byte;
        });
      }
    try {
      const spent = leastTime(() => subject.read(bytes));
      found += spent.result;
      slowest = Math.max(slowest, spent.time);
    } catch (error) {
      throw new Error(`${name}, round ${round}: ${(error as Error).stack}`);
    }
    if (round % 64 === 0) memory = Math.max(memory, process.memoryUsage().rss);
    for (const [at, byte] of undo.reverse()) bytes[at] = byte;
  }
  return { found, slowest, memory };
}
