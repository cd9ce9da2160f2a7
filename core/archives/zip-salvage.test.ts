import { spawnSync } from "node:child_process";
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { crc32 } from "node:zlib";
import { afterAll, describe, expect, it } from "vitest";
import { backupFile, backupJson, damagedBackups, type ReadBack, readBackup, sha256 } from "../../tests/support/backup-truth";
import { carveImage } from "../../tests/support/lab-files";
import { MemorySource, WindowSource } from "../bytes/byte-source";
import { openContainer } from "../containers/open-container";
import { recogniseRemains } from "../filesystems/recognise";
import { inspectDisk, openVolume } from "../volumes/inspect";
import { openZip } from "./zip-volume";

// ZIP: the published APPNOTE. Archives by Zip 3.0, 7-Zip and Python's zipfile; the damage by script, judged byte by byte.

interface Member {
  name: string;
  method: string;
  size: number;
  flags: number;
  sha256: string | null;
}
interface Original {
  file?: string;
  members: Member[];
  withoutOne?: { missing: string; members: [string, string, number?][] }[];
}
const originals = backupJson<{ originals: Original[] }>("zip.json").originals;
const hashes = new Set(originals.flatMap(({ members }) => members.map((member) => member.sha256)));
const hashesOf = (name: string) =>
  new Set(originals.flatMap(({ members }) => members.filter((each) => each.name === name).map((each) => each.sha256)));
const isFile = ({ name }: { name: string }) => !name.endsWith("/");
const wholeAs = (read: readonly ReadBack[], name: string) =>
  read.find(
    ({ copy, sha256: hash }) => copy.path === `/${name}` && copy.condition === "whole" && (copy.size === 0 || hashesOf(name).has(hash)),
  );
const falselyWhole = (read: readonly ReadBack[]) =>
  read
    .filter(({ copy, sha256: hash }) => copy.type === "file" && copy.condition === "whole" && copy.size > 0 && !hashes.has(hash))
    .map(({ copy }) => copy.path);

describe.each(originals.filter(({ file }) => file))("a sound archive, $file", ({ file, members }) => {
  const bytes = backupFile(file as string);

  it("thorough: every member is whole by its checksum; those with a password are named", () => {
    const read = readBackup(bytes, true);
    for (const member of members.filter(isFile))
      if (member.flags & 1) expect(read.find(({ copy }) => copy.path === `/${member.name}`)?.copy.absent).toBe("encrypted");
      else expect(wholeAs(read, member.name), member.name).toBeDefined();
    expect(read.filter(({ copy }) => copy.type === "file")).toHaveLength(members.filter(isFile).length);
  });

  it("light: every member byte for byte, none called whole before somebody looks", () => {
    const read = readBackup(bytes, false);
    for (const member of members.filter((each) => isFile(each) && !(each.flags & 1))) {
      const found = read.find(({ copy }) => copy.path === `/${member.name}`);
      if (member.size > 0) expect(found).toMatchObject({ sha256: member.sha256, copy: { condition: "not-checked" } });
    }
  });
});

describe.each(damagedBackups("zip-damaged"))("$name", (damagedCase) => {
  const { members } = damagedCase as unknown as {
    members: { name: string; state: string; size: number; via?: string[]; descriptorStands?: boolean }[];
  };
  const read = readBackup(damagedCase.bytes, true);

  it("gives back every member that its maker calls whole, and says of the others what they are", () => {
    for (const { name, state, size, via, descriptorStands } of members) {
      if (state === "whole") {
        const byContent = read.find(({ copy, sha256: hash }) => copy.path === `/${name}` && (size === 0 || hashesOf(name).has(hash)));
        expect(byContent, name).toBeDefined();
        // With the checksum gone as well, nothing can vouch for it.
        if (via?.join() !== "local" || descriptorStands !== false) expect(wholeAs(read, name), name).toBeDefined();
      } else if (state === "whole, name lost")
        expect(
          read.some(({ sha256: hash }) => hashesOf(name).has(hash)),
          name,
        ).toBe(true);
      else if (state.startsWith("encrypted")) expect(read.find(({ copy }) => copy.path === `/${name}`)?.copy.absent).toBe("encrypted");
      else if (state === "in part" || state === "named, content lost") {
        const found = read.filter(({ copy }) => copy.path === `/${name}`);
        expect(found.length, name).toBeGreaterThan(0);
        // In a splice, another archive's member of the same name may be whole.
        if (!damagedCase.name.includes("splice"))
          for (const { copy } of found) if (size > 0) expect(copy.condition, name).not.toBe("whole");
      }
    }
  });

  it("calls nothing whole that is not", () => expect(falselyWhole(read)).toEqual([]));
});

describe("an archive with very many members of one name", () => {
  /** Members and list of an archive by the layouts of APPNOTE 4.3.7, 4.3.12 and 4.3.16. @param contentOf what each holds */
  function made(count: number, contentOf: (index: number) => string): { body: Buffer; entries: Buffer[]; end: Buffer } {
    const name = Buffer.from("same.txt");
    const [members, entries]: [Buffer[], Buffer[]] = [[], []];
    let at = 0;
    for (let index = 0; index < count; index += 1) {
      const content = Buffer.from(contentOf(index));
      const sizes = Buffer.alloc(14);
      sizes.writeUInt32LE(crc32(content), 0);
      sizes.writeUInt32LE(content.length, 4);
      sizes.writeUInt32LE(content.length, 8);
      sizes.writeUInt16LE(name.length, 12);
      const header = Buffer.concat([Buffer.from("PK\u0003\u0004\u0014"), Buffer.alloc(9), sizes, Buffer.alloc(2), name, content]);
      const place = Buffer.alloc(18);
      place.writeUInt32LE(at, 14);
      entries.push(Buffer.concat([Buffer.from("PK\u0001\u0002\u0014\0\u0014"), Buffer.alloc(9), sizes, place.subarray(0, 18), name]));
      members.push(header);
      at += header.length;
    }
    const end = Buffer.alloc(22);
    end.write("PK\u0005\u0006", "latin1");
    end.writeUInt16LE(count, 10);
    end.writeUInt32LE(entries.length * (entries[0]?.length ?? 0), 12);
    end.writeUInt32LE(at, 16);
    return { body: Buffer.concat(members), entries, end };
  }

  it.each([
    ["each with its own content", (index: number) => `content ${index}`],
    ["all with the same", () => "content"],
  ])("gives each once, whatever the order of its list, and where that is moved: %s", (_, contentOf) => {
    const { body, entries, end } = made(3000, contentOf);
    for (const before of [0, 77])
      for (const order of [entries, [...entries].reverse()]) {
        const disk = new MemorySource(Buffer.concat([Buffer.alloc(before), body, ...order, end]));
        for (const records of [
          [...openZip(disk, 0, disk.size).readRecords(null, 512)],
          [...(openZip(disk, 0, disk.size).readThorough?.(null, 512) ?? [])],
        ].map((batches) => batches.flatMap((batch) => batch.records))) {
          expect(records).toHaveLength(3000);
          expect(records.every(({ content }) => content.kind === "placed" && content.likeliest.sure)).toBe(true);
        }
      }
  });
});

describe("what is no archive", () => {
  it("a drive without a file system, on which archives lie among other files, stays what it is", () => {
    const { source } = carveImage();
    // Its first MiB and all of it, at several beginnings: documents, which are archives inside, stand everywhere.
    for (const start of [0, 1 << 20, 5 << 20, 17 << 20, 33 << 20]) {
      const window = new WindowSource(source, start, source.size - start);
      expect(
        inspectDisk(window).volumes.map(({ filesystem }) => filesystem),
        `from ${start}`,
      ).not.toContain("zip");
      expect(recogniseRemains(window).filesystem).not.toBe("tar");
    }
  });
});

describe("an archive in parts", () => {
  const inParts = originals.filter(({ withoutOne }) => withoutOne);
  const NAMES = [
    ["zip-split.z01", "zip-split.z02", "zip-split.zip"],
    ["zip-volume.zip.001", "zip-volume.zip.002", "zip-volume.zip.003"],
  ];
  const readParts = (chosen: string, there: readonly string[]) => {
    const open = (name: string) => (there.includes(name) ? new MemorySource(backupFile(name)) : null);
    const container = openContainer(open(chosen) as MemorySource, { name: chosen, list: () => there, open });
    const [report] = inspectDisk(container.disk, container).volumes;
    return { notes: container.notes, disk: container.disk, volume: openVolume(container.disk, report as NonNullable<typeof report>) };
  };
  const namesOf = (volume: ReturnType<typeof readParts>["volume"]) =>
    [...(volume.readThorough?.(null, 512) ?? [])].flatMap(({ records }) =>
      records
        .filter(
          ({ type, content }) =>
            type === "file" && content.kind === "placed" && (content.likeliest.vouched || content.likeliest.layout.size === 0),
        )
        .map(({ path }) => path.slice(1)),
    );

  it.each(inParts.map((each, index) => [index, each] as const))("%i: is read through any of its parts", (index, { members }) => {
    const names = NAMES[index] as string[];
    for (const chosen of names) {
      const { volume } = readParts(chosen, names);
      expect(new Set(namesOf(volume))).toEqual(new Set(members.filter(isFile).map(({ name }) => name)));
    }
  });

  it.each(inParts.map((each, index) => [index, each] as const))(
    "%i: with one of them missing gives what the others hold, and names it",
    (index, { withoutOne }) => {
      const names = NAMES[index] as string[];
      for (const { missing, members } of withoutOne ?? []) {
        const there = names.filter((name) => `open-${name}` !== missing);
        const { volume, notes } = readParts(there[0] as string, there);
        // Of parts cut by size, nothing says that a further one was there.
        if (missing !== "open-zip-volume.zip.003") expect(notes.join()).toContain(missing.replace("open-", ""));
        const whole = members.filter(([name, state]) => state === "whole" && !name.endsWith("/")).map(([name]) => name);
        expect(new Set(namesOf(volume))).toEqual(new Set(whole));
      }
    },
  );
});

describe("TAR archives as stores", () => {
  const work = mkdtempSync(join(tmpdir(), "compass-tar-"));
  afterAll(() => rmSync(work, { recursive: true, force: true }));
  const contents = new Map(Array.from({ length: 12 }, (_, i) => [`folder/file ${i}.txt`, Buffer.from(`line ${i}\n`.repeat(40 + 97 * i))]));
  spawnSync("mkdir", ["-p", join(work, "folder")]);
  for (const [name, bytes] of contents) writeFileSync(join(work, name), bytes);
  const made = (archive: string, ...args: string[]) => {
    expect(spawnSync("tar", [...args, "-f", join(work, archive), "-C", work, "folder"]).status).toBe(0);
    return readFileSync(join(work, archive));
  };

  it("are listed as GNU tar made them, and compressed as a whole too", () => {
    for (const [name, args] of [
      ["plain.tar", ["-c"]],
      ["packed.tar.gz", ["-cz"]],
      ["packed.tar.xz", ["-cJ"]],
      ["packed.tar.bz2", ["-cj"]],
    ] as const) {
      const container = openContainer(new MemorySource(made(name, ...args)));
      const read = readBackup(Buffer.from(readAll(container.disk)), true).filter(({ copy }) => copy.type === "file");
      expect(new Map(read.map(({ copy, sha256: hash }) => [copy.path.slice(1), hash]))).toEqual(
        new Map([...contents].map(([path, bytes]) => [path, sha256(bytes)])),
      );
      // The format keeps no checksum of contents, and text has nothing to be checked by.
      expect(read.every(({ copy }) => copy.condition === "not-checked")).toBe(true);
    }
  });

  it("out of step by a byte, or with a header gone, give all files whose headers stand", () => {
    const bytes = made("damaged.tar", "-c");
    const at = bytes.indexOf("folder/file 5.txt");
    const slipped = Buffer.concat([bytes.subarray(0, at), Buffer.from("x"), bytes.subarray(at)]);
    const zeroed = Buffer.from(bytes);
    zeroed.fill(0, at, at + 512);
    for (const [damagedBytes, lost] of [
      [slipped, 0],
      [zeroed, 1],
    ] as const) {
      const found = new Set(readBackup(damagedBytes, true).map(({ sha256: hash }) => hash));
      expect([...contents.values()].filter((content) => !found.has(sha256(content)))).toHaveLength(lost);
    }
  });
});

const readAll = (source: { size: number; read(at: number, into: Uint8Array): void }) => {
  const bytes = new Uint8Array(source.size);
  source.read(0, bytes);
  return bytes;
};
