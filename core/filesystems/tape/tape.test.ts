import { describe, expect, it } from "vitest";
import { seeded } from "../../../demo/draw";
import { writeTape } from "../../../demo/tape-writer";
import {
  backupFile,
  backupJson,
  type DamagedEntry,
  damage,
  damagedBackups,
  type Operation,
  openBackup,
  type ReadBack,
  readBackup,
  sha256,
  type TapeEntry,
  type TapeTruth,
} from "../../../tests/support/backup-truth";
import { MemorySource, readBytes } from "../../bytes/byte-source";
import type { ConcatSource } from "../../bytes/concat-source";
import { LayoutSource } from "../../bytes/layout";
import { openTapeMedia } from "../../containers/tape-media";
import { openTape } from "./tape-volume";

// Layout: Tape Format Specification, revision 1.00a. The media are written, and their manifests read again, by two programs
// of one author from memory of it (tests/fixtures/README.md): they agree with each other, which is no proof for real backups.

const truthOf = (name: string) => backupJson<TapeTruth>(`${name}.json`);
const files = (read: readonly ReadBack[]) => read.filter(({ copy }) => copy.type === "file");
const endsWith = (path: string, wanted: string) => path === `/${wanted}` || path.endsWith(`/${wanted}`);
const nameOf = (path: string) => path.slice(path.lastIndexOf("/") + 1);

describe.each(["tape", "tape-small", "tape-pair-1", "tape-pair-2"])("a sound medium, %s", (name) => {
  const truth = truthOf(name);
  const bytes = backupFile(`${name}.bkf`);
  const own = truth.entries.filter((entry) => !("continuesOnNext" in entry) && !("continued" in entry));

  it.each([
    ["light", false],
    ["thorough", true],
  ])("%s: gives every file byte for byte under its path and set, with its dates", (_, thorough) => {
    const read = readBackup(bytes, thorough);
    for (const entry of own) {
      const found = read.find(
        ({ copy }) => copy.type === entry.type && endsWith(copy.path, entry.path) && copy.backup?.set === String(entry.set),
      );
      if (entry.path === "") continue;
      expect(found, entry.path).toBeDefined();
      expect(new Date(found?.copy.modified as number).toISOString().slice(0, 19)).toBe(entry.modified);
      if (entry.type === "folder") continue;
      // Read only, and hidden: bits 8 and 9.
      expect(found?.copy.marks ?? 0, entry.path).toBe((entry.attributes >> 8) & 3);
      expect(found?.copy.size).toBe(entry.size);
      if (entry.sha256) expect(found?.sha256, entry.path).toBe(entry.sha256);
      else
        expect(found?.copy.absent).toBe(
          { compressed: "not-followed", encrypted: "encrypted", "in use": "named-only" }[entry.how as "in use"],
        );
    }
    expect(files(read)).toHaveLength(truth.entries.filter(({ type }) => type === "file").length);
  });

  it("light: calls nothing whole that nobody looked at", () => {
    expect(files(readBackup(bytes, false)).filter(({ copy }) => copy.condition === "whole" && copy.size > 0)).toEqual([]);
  });

  it("goes on from every checkpoint as if it had not stopped", () => {
    const { volume } = openBackup(bytes);
    const all = [...volume.readRecords(null, 4096)].flatMap(({ records }) => records.map(({ path }) => path));
    const steps = [...volume.readRecords(null, 5)];
    for (const index of steps.keys())
      if (index % 7 === 0) {
        const before = steps.slice(0, index + 1).flatMap(({ records }) => records.map(({ path }) => path));
        const after = [...volume.readRecords(steps[index]?.resume ?? null, 5)].flatMap(({ records }) => records.map(({ path }) => path));
        expect([...before, ...after]).toEqual(all);
      }
  });
});

describe("sets and streams", () => {
  const truth = truthOf("tape");
  const bytes = backupFile("tape.bkf");

  it("sets are states, each with its files alone and the moment it was made", () => {
    const { disk, volume } = openBackup(bytes);
    expect(volume.states?.().map(({ view, label, asOf }) => ({ view, label, asOf }))).toEqual(
      truth.sets.map(({ number, name, date, timeZoneQuarterHours: zone }) => ({
        view: String(number),
        label: name,
        // 127 quarters of an hour: it does not say.
        asOf: Date.parse(`${date}Z`) - (zone === 127 ? 0 : zone) * 15 * 60_000,
      })),
    );
    for (const { number, files: count } of truth.sets) {
      const one = openTape(disk, 0, disk.size, String(number));
      const records = [...one.readRecords(null, 100)].flatMap(({ records: each }) => each).filter(({ type }) => type === "file");
      expect(records).toHaveLength(count);
      expect(new Set(records.map(({ backup }) => backup?.set))).toEqual(new Set([String(number)]));
    }
  });

  it("named streams are given under their own names", () => {
    const read = readBackup(bytes, false);
    const disk = new MemorySource(bytes);
    let streams = 0;
    for (const entry of truth.entries)
      for (const [name, { size, sha256: hash }] of Object.entries(entry.streams ?? {})) {
        const copy = read.find((each) => each.copy.type === "file" && endsWith(each.copy.path, entry.path))?.copy;
        const found = copy?.streams.find((stream) => `:${stream.name}:$DATA` === name);
        expect(found?.size).toBe(size);
        expect(sha256(readBytes(new LayoutSource(disk, found?.layout ?? { size: 0, segments: [] }), 0, size))).toBe(hash);
        streams += 1;
      }
    expect(streams).toBeGreaterThan(4);
  });

  it("a checksum that agrees makes a file whole, one that does not never does", { tags: "long" }, () => {
    const entry = truth.entries.find(({ places, size }) => (size ?? 0) > 100 && places.some(([what]) => what === "CSUM")) as TapeEntry;
    const at = entry.places.find(([what]) => what === "STAN")?.[1] as number;
    const conditionIn = (of: Uint8Array) =>
      files(readBackup(of, true)).find(({ copy }) => endsWith(copy.path, entry.path) && copy.backup?.set === "2")?.copy;
    expect(conditionIn(bytes)?.condition).toBe("whole");
    const changed = Uint8Array.from(bytes);
    changed[at + 50] = (changed[at + 50] as number) ^ 0x20;
    expect(conditionIn(changed)?.condition).not.toBe("whole");
    expect(conditionIn(changed)?.notes.join()).toContain("checksum");
  });

  it("a checksum that cannot have seen the damage makes nothing whole: words that repeat cancel one another out", () => {
    const content = Buffer.alloc(6000, "aaaa");
    const medium = writeTape("Repeats", [
      {
        name: "One",
        date: new Date(Date.UTC(2011, 2, 5)),
        files: [{ folder: [], name: "repeats.dat", content, modified: new Date(Date.UTC(2011, 2, 4)) }],
      },
    ]);
    const conditionOf = (of: Uint8Array) => files(readBackup(of, true))[0]?.copy.condition;
    expect(conditionOf(medium)).toBe("whole");
    const at = medium.indexOf(content.subarray(0, 64));
    const emptied = Uint8Array.from(medium);
    emptied.fill(0, at + 1024, at + 3072);
    expect(conditionOf(emptied)).not.toBe("whole");
  });

  it("of a part, the file it begins in is given and says so, and nothing behind it is missed", () => {
    for (const [from, to] of [
      [0.25, 0.5],
      [0.5, 0.75],
      [0.75, 1],
    ] as const) {
      const part = { start: Math.floor(bytes.length * from), end: Math.floor(bytes.length * to) };
      const read = files(readBackup(bytes, true, part));
      const within = truth.entries.filter(({ type, dblk }) => type === "file" && dblk >= part.start && dblk < part.end);
      const found = within.filter((entry) =>
        read.some(({ copy, sha256: hash }) => endsWith(copy.path, entry.path) && (!entry.sha256 || hash === entry.sha256)),
      );
      expect(within.filter((entry) => !found.includes(entry)).map(({ path }) => path)).toEqual([]);
      const before = read.filter(({ copy }) => copy.notes.some((note) => note.includes("begins before the part")));
      expect(read).toHaveLength(within.length + before.length);
      expect(before.length).toBeLessThanOrEqual(1);
    }
  });
});

describe("one set over two media", () => {
  const [first, second] = [backupFile("tape-pair-1.bkf"), backupFile("tape-pair-2.bkf")];
  const beside = new Map([
    ["a.bkf", first],
    ["b.bkf", second],
  ]);
  const neighbours = (name: string, there = beside) => ({
    name,
    list: () => [...there.keys()],
    open: (other: string) => (there.has(other) ? new MemorySource(there.get(other) as Uint8Array) : null),
  });

  it.each(["a.bkf", "b.bkf"])("is put together whichever of them is chosen (%s): the file that lies on both is whole", (name) => {
    const media = openTapeMedia(new MemorySource(beside.get(name) as Uint8Array), neighbours(name));
    expect(media?.kind).toBe("tape-media");
    expect(media?.notes).toEqual([]);
    const disk = media?.disk as ConcatSource;
    const records = [...openTape(disk, 0, disk.size).readRecords(null, 100)].flatMap((batch) => batch.records);
    const both = truthOf("tape-pair-1").entries.find((entry) => "continuesOnNext" in entry) as TapeEntry;
    const found = records.filter(({ path }) => endsWith(path, both.path));
    expect(found).toHaveLength(1);
    const content = found[0]?.content;
    const layout = content?.kind === "placed" ? content.likeliest.layout : null;
    expect(sha256(readBytes(new LayoutSource(disk, layout ?? { size: 0, segments: [] }), 0, both.size ?? 0))).toBe(both.sha256);
    expect(records.filter(({ type }) => type === "file")).toHaveLength(21 + 9 - 1);
  });

  it("asks by its number for a medium that is not there, and says of the file what is missing", () => {
    const alone = openTapeMedia(new MemorySource(first), neighbours("a.bkf", new Map([["a.bkf", first]])));
    expect(alone?.notes.join()).toContain("Medium 2");
    const rest = openTapeMedia(new MemorySource(second), neighbours("b.bkf", new Map([["b.bkf", second]])));
    expect(rest?.notes.join()).toContain("Medium 1");
    const across = files(readBackup(second, false)).find(({ copy }) => copy.path.endsWith("across the two.log"));
    expect(across?.copy).toMatchObject({ condition: "partial", notes: [expect.stringContaining("first 34654 bytes")] });
  });
});

const RECOVERABLE = new Set([
  "whole",
  "whole, but something between its parts is damaged or moved",
  "content whole, name lost",
  "named, content whole, its stream header damaged",
]);

describe.each(damagedBackups("tape-damaged"))("$name", ({ name, bytes }) => {
  const base = new Map(truthOf("tape").entries.map((entry) => [entry.dblk, entry]));
  const entries = backupJson<DamagedEntry[]>(`${name.replace("open-", "")}.entries.json.gz`);
  const read = files(readBackup(bytes, true));

  it("gives back everything its maker calls recoverable, byte for byte, under the name and folder that stand", () => {
    let recoverable = 0;
    for (const { was, state, type, folderStands, path } of entries) {
      const truth = base.get(was) as TapeEntry;
      if (type !== "file" || !truth.sha256 || !RECOVERABLE.has(state)) continue;
      recoverable += 1;
      const found = read.filter(({ sha256: hash }) => hash === truth.sha256);
      expect(found.length, path).toBeGreaterThan(0);
      if (state.includes("name lost")) continue;
      expect(
        found.some(({ copy }) => endsWith(copy.path, folderStands ? path : nameOf(path))),
        path,
      ).toBe(true);
    }
    expect(recoverable).toBeGreaterThan(60);
  });

  it("calls nothing whole that is not", () => {
    const right = new Set([...base.values()].map(({ sha256: hash }) => hash));
    const wrong = read.filter(({ copy, sha256: hash }) => copy.condition === "whole" && copy.size > 0 && !right.has(hash as string));
    expect(wrong.map(({ copy }) => copy.path)).toEqual([]);
  });

  it("says what it could not follow, with its place", () => {
    const { volume } = openBackup(bytes);
    for (const _ of volume.readThorough?.(null, 4096) ?? []);
    if (!/cut-(beginning|end)$|middle/.test(name))
      expect(volume.findings?.()[0]?.examples[0]).toMatch(
        name === "open-tape-lost-512" ? /^bytes are missing before \d+$/ : /^bytes \d+ to \d+$/,
      );
  });
});

describe("damage drawn by lot", () => {
  const base = backupFile("tape.bkf");
  const { entries } = truthOf("tape");
  const SEEDS = Array.from({ length: 24 }, (_, i) => 20_260_000 + i);

  function drawn(seed: number): Operation[] {
    const random = seeded(seed);
    const at = () => Math.floor(random() * base.length * 0.9);
    return Array.from({ length: 1 + Math.floor(random() * 5) }, (): Operation => {
      const kind = Math.floor(random() * 5);
      if (kind === 0) return { op: "zero", offset: at(), length: Math.floor(random() * 20_000) };
      if (kind === 1) return { op: "insert", offset: at(), length: 1 + Math.floor(random() * 700), fill: "a5" };
      if (kind === 2) return { op: "remove", offset: at(), length: 1 + Math.floor(random() * 2000) };
      if (kind === 3) return { op: "xor", offset: at(), hex: Buffer.from([1 + Math.floor(random() * 255)]).toString("hex") };
      return random() < 0.5
        ? { op: "cut-begin", length: Math.floor(random() * 200_000) }
        : { op: "cut-end", length: base.length - Math.floor(random() * 200_000) };
    });
  }

  it("every file whose blocks and bytes all stand is given back under its name; none that is damaged is whole", { tags: "long" }, () => {
    let [standing, given] = [0, 0];
    const right = new Set(entries.map(({ sha256: hash }) => hash));
    for (const seed of SEEDS) {
      const { bytes, was } = damage(base, drawn(seed));
      const now = new Map<number, number>();
      was.forEach((before, at) => {
        if (before >= 0) now.set(before, at);
      });
      const read = files(readBackup(bytes, true));
      for (const { sha256: hash, places, path } of entries) {
        if (!hash) continue;
        const from = (places[0] as [string, number, number])[1];
        const to = places.reduce((end, [, at, length]) => Math.max(end, at + length), from) + 22;
        const shift = (now.get(from) ?? Number.NaN) - from;
        let whole = true;
        for (let at = from; at < to && whole; at += 1) whole = now.get(at) === at + shift;
        if (!whole) continue;
        standing += 1;
        if (read.some(({ copy, sha256: found }) => found === hash && copy.path.endsWith(nameOf(path)))) given += 1;
      }
      expect(read.filter(({ copy, sha256: hash }) => copy.condition === "whole" && copy.size > 0 && !right.has(hash as string))).toEqual(
        [],
      );
    }
    expect(standing).toBeGreaterThan(SEEDS.length * 100);
    expect(given).toBe(standing);
  });
});

describe("where a reading ends before the file does", () => {
  const bytes = backupFile("tape.bkf");
  const at = Math.floor((bytes.length * 0.4) / 1024) * 1024;
  const [before, behind] = [bytes.subarray(0, at), bytes.subarray(at)];
  const filled = (length: number) => {
    const draw = seeded(77);
    return Buffer.from(Array.from({ length }, () => Math.floor(draw() * 256)));
  };
  const said = (medium: Uint8Array) =>
    openTape(new MemorySource(medium), 0, medium.length)
      .findings?.()
      .map(({ what }) => what) ?? [];
  const ends = (what: string) => what.startsWith("The light reading of the backup file ends");

  it("the light one says so where more than it looks through is in its way, and a thorough one finds what stands behind", {
    tags: "long",
  }, () => {
    const far = Buffer.concat([before, filled((16 << 20) + 4096), behind]);
    const words = said(far);
    expect(words.filter(ends)).toHaveLength(1);
    const light = files(readBackup(far, false)).map(({ copy }) => copy.path);
    const thorough = files(readBackup(far, true)).map(({ copy }) => copy.path);
    expect(light.length).toBeLessThan(thorough.length);
    expect(thorough.length).toBeGreaterThan(0.9 * truthOf("tape").entries.filter(({ type }) => type === "file").length);
  });

  it("says nothing of the kind where it came to the end", () => {
    expect(said(bytes).filter(ends)).toEqual([]);
    expect(said(Buffer.concat([before, filled(1 << 20), behind])).filter(ends)).toEqual([]);
    expect(said(bytes).filter((what) => what.startsWith("The sets of the backup file"))).toEqual([]);
  });
});
