import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { recordAt } from "../../tests/support/copies";
import { fixture, imageSource, readTruth } from "../../tests/support/volume-truth";
import { MemorySource } from "../bytes/byte-source";
import { type FileRecord, NO_CONTENT, placed } from "../filesystems/file-record";
import { readAccounts } from "./account-database";
import { inspectDisk, openVolume } from "./inspect";
import { ProfileInventory } from "./profiles";
import { readVolume } from "./reading";

/** Written by hivexsh; tests/fixtures/make-accounts.ts says how. */
const { people, hive } = JSON.parse(fixture("accounts.json.gz").toString()) as {
  people: { key: string; name: string; disabled: boolean }[];
  hive: string;
};
const database = Buffer.from(hive, "base64");

const file = (path: string, size: number, modified: string | null, bytes?: Buffer): FileRecord =>
  recordAt(path, {
    state: "live",
    size,
    modified: modified === null ? null : Date.parse(modified),
    content: bytes ? placed({ size: bytes.length, segments: [{ kind: "held", at: 0, length: bytes.length, bytes }] }) : NO_CONTENT,
  });

describe("the account database", () => {
  it("lists each account and whether it is disabled, as another library wrote them", () => {
    expect(readAccounts(database)).toEqual(people.map(({ key, name, disabled }) => ({ name, number: Number.parseInt(key, 16), disabled })));
  });

  it("damaged or something else gives what can be followed, and never a crash", () => {
    const random = seeded(8);
    for (let round = 0; round < 3000; round += 1) {
      const bytes = Uint8Array.from(database);
      for (let hits = 0; hits < 5; hits += 1) bytes[Math.floor(random() * bytes.length)] = Math.floor(random() * 256);
      expect(readAccounts(bytes).length).toBeLessThanOrEqual(20_000);
    }
    expect(readAccounts(Buffer.from("no hive at all"))).toEqual([]);
  });
});

describe("the inventory of profiles", () => {
  it("counts size by kind and last use, the previous system's too, and ties accounts to folders", () => {
    const inventory = new ProfileInventory();
    for (const copy of [
      file("/Users/mo/Documents/a.docx", 100, "2026-03-01T10:00:00Z"),
      file("/Users/mo/Pictures/b.jpg", 50, "2026-03-12T10:00:00Z"),
      file("/Users/Ilse Brandvold.LARKFIELD/c.txt", 7, "2024-01-01T00:00:00Z"),
      file("/Windows.old/Users/mo/d.txt", 9, "2021-01-01T00:00:00Z"),
      file("/Users/Public/e.txt", 9, "2026-01-01T00:00:00Z"),
      file("/Users/desktop.ini", 9, null),
      { ...file("/Users/gone/f.txt", 9, null), state: "deleted" as const },
      file("/Windows/System32/config/SAM", database.length, null, database),
    ])
      inventory.add(copy);
    expect(inventory.list(new MemorySource(new Uint8Array()))).toEqual([
      {
        path: "/Users/mo",
        user: "mo",
        earlier: false,
        files: 2,
        bytes: 150,
        kinds: { documents: 100, pictures: 50 },
        lastUsed: Date.parse("2026-03-12T10:00:00Z"),
        account: "enabled",
      },
      {
        path: "/Users/Ilse Brandvold.LARKFIELD",
        user: "Ilse Brandvold.LARKFIELD",
        earlier: false,
        files: 1,
        bytes: 7,
        kinds: { documents: 7 },
        lastUsed: Date.parse("2024-01-01T00:00:00Z"),
        account: "disabled",
      },
      {
        path: "/Windows.old/Users/mo",
        user: "mo",
        earlier: true,
        files: 1,
        bytes: 9,
        kinds: { documents: 9 },
        lastUsed: Date.parse("2021-01-01T00:00:00Z"),
        account: "not known",
      },
    ]);
  });

  it("of a volume agrees with its manifest, file by file", { tags: "long" }, () => {
    const truth = readTruth("ntfs-mbr");
    const disk = imageSource("ntfs-mbr");
    const report = inspectDisk(disk).volumes.find((each) => each.offset === truth.volume.partitionOffset);
    if (!report) throw new Error("no volume");
    const { profiles } = readVolume(openVolume(disk, report), disk);
    expect(profiles.length).toBeGreaterThan(0);
    for (const profile of profiles) {
      const own = truth.entries.filter(
        (entry) => entry.type === "file" && entry.state === "live" && `/${entry.path}`.startsWith(`${profile.path}/`),
      );
      expect([profile.files, profile.bytes], profile.path).toEqual([own.length, own.reduce((sum, entry) => sum + (entry.size ?? 0), 0)]);
    }
  });
});
