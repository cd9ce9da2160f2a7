import { deflateRawSync, gzipSync } from "node:zlib";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { type ByteSource, MemorySource, readBytes } from "../bytes/byte-source";
import { LayoutSource } from "../bytes/layout";
import { readPackedName, readView, viewOf } from "../bytes/packed-file";
import type { Container } from "../containers/container";
import { openContainer } from "../containers/open-container";
import type { FileRecord } from "../filesystems/file-record";
import { openFileSystem } from "../filesystems/registry";
import { inspectDisk } from "../volumes/inspect";

/** A text of which every line differs. */
function lines(number: number, seed: number): Buffer {
  const random = seeded(seed);
  return Buffer.from(Array.from({ length: number }, (_, index) => `line ${index} ${Math.floor(random() * 1e9)}\n`).join(""));
}
// The line "a file by itself\n", 500 times over: made by Python 3.11 as bz2.compress(b"a file by itself\n" * 500) and lzma.compress(…), in base64.
const SAME = Buffer.from("a file by itself\n".repeat(500));
const PACKED = {
  bz2: "QlpoOTFBWSZTWZKZVM4ABOHRgAAQQAAzJAwgIACQIBppoE1UTINN0g3SDVIOUg1SDdIPaQfUgxSDNIPKQYpB9SD2kHKQZpBykH4u5IpwoSElMqmc",
  xz: "/Td6WFoAAATm1rRGAgAhARYAAAB0L+Wj4CEzADtdADCICMbUDKnkB4md1jeMbR0zlO9SsTf3Vtxod3AO2uma/jNn012lz4FxQb2Vrh5ypu5gHVbKF/c2vGIAAACM/m4wMwuacQABV7RCAAAA8NKEBrHEZ/sCAAAAAARZWg==",
};
/** The same without a checksum, and with one that is not compared here (check=lzma.CHECK_NONE, CHECK_SHA256). */
const UNCHECKED = {
  none: "/Td6WFoAAAD/EtlBAgAhARYAAAB0L+Wj4CEzADtdADCICMbUDKnkB4md1jeMbR0zlO9SsTf3Vtxod3AO2uma/jNn012lz4FxQb2Vrh5ypu5gHVbKF/c2vGIAAAAAAU+0QgAAAAZSAemoAAr8AgAAAAAAWVo=",
  "SHA-256":
    "/Td6WFoAAArh+wyhAgAhARYAAAB0L+Wj4CEzADtdADCICMbUDKnkB4md1jeMbR0zlO9SsTf3Vtxod3AO2uma/jNn012lz4FxQb2Vrh5ypu5gHVbKF/c2vGIAAADgY9Y+g1Zs5zFlad5THtqkUKk5YPnm3+uG5R55GiGp9wABb7RCAAAAMFet7rbp3xwCAAAAAApZWg==",
};

const named = (name: string) => ({ name, list: () => [name], open: () => null });

function open(bytes: Uint8Array, name: string): { container: Container; records: FileRecord[]; filesystem: string } {
  const container = openContainer(new MemorySource(bytes), named(name));
  const { volumes } = inspectDisk(container.disk, container);
  const [volume] = volumes;
  if (!volume || volume.filesystem === "unknown") return { container, records: [], filesystem: "unknown" };
  const store = openFileSystem(volume.filesystem, container.disk, volume.offset, volume.length, volume.view);
  return { container, records: [...store.readRecords(null, 100)].flatMap(({ records }) => records), filesystem: volume.filesystem };
}

function contentOf(disk: ByteSource, { content }: FileRecord): Buffer {
  if (content.kind !== "placed") throw new Error("It has no content.");
  const source = new LayoutSource(disk, content.likeliest.layout);
  return Buffer.from(readBytes(source, 0, source.size));
}
const isWhole = ({ content }: FileRecord) => content.kind === "placed" && content.likeliest.sure && content.likeliest.vouched === true;

/** A GZIP file with a name and a date, by RFC 1952, 2.3. */
function gzipNamed(plain: Uint8Array, name: Buffer, seconds: number): Buffer {
  const trailer = gzipSync(plain).subarray(-8);
  const header = Buffer.from([0x1f, 0x8b, 8, 8, 0, 0, 0, 0, 0, 255]);
  header.writeUInt32LE(seconds, 4);
  return Buffer.concat([header, name, Buffer.of(0), deflateRawSync(plain), trailer]);
}

describe("a file compressed by itself", () => {
  it("is a store of that one file, under the name it keeps, else that of the compressed one", () => {
    const plain = lines(2000, 1);
    const kept = open(gzipNamed(plain, Buffer.from("Sternkarte ä.csv"), 1_700_000_000), "backup.gz");
    expect(kept.filesystem).toBe("packed");
    expect(kept.records.map(({ path, modified, size }) => [path, modified, size])).toEqual([
      ["/Sternkarte ä.csv", 1_700_000_000_000, plain.length],
    ]);
    expect(contentOf(kept.container.disk, kept.records[0] as FileRecord)).toEqual(plain);
    expect(kept.records.every(isWhole)).toBe(true);
    const unnamed = open(gzipSync(plain), "members.csv.gz");
    expect(unnamed.records.map(({ path, modified }) => [path, modified])).toEqual([["/members.csv", null]]);
  });

  it.each(Object.entries(PACKED))("comes out of %s byte for byte", (ending, base64) => {
    const { container, records } = open(Buffer.from(base64, "base64"), `notes.txt.${ending}`);
    expect(records.map(({ path }) => path)).toEqual(["/notes.txt"]);
    expect(records.every(isWhole)).toBe(true);
    expect(contentOf(container.disk, records[0] as FileRecord)).toEqual(SAME);
  });

  it.each(Object.entries(UNCHECKED))("of which no checksum was compared is not called whole: %s", (_, base64) => {
    const { container, records } = open(Buffer.from(base64, "base64"), "notes.txt.xz");
    expect(contentOf(container.disk, records[0] as FileRecord)).toEqual(SAME);
    expect(records.some(isWhole)).toBe(false);
    expect(records[0]?.notes.join(" ")).toContain("nothing vouches for this");
  });

  it("is whole where something else stands behind its end, which is said", () => {
    const plain = lines(500, 9);
    const { container, records } = open(Buffer.concat([gzipSync(plain), Buffer.from("something else")]), "a.txt.gz");
    expect(contentOf(container.disk, records[0] as FileRecord)).toEqual(plain);
    expect(records.map((record) => [isWhole(record), record.notes])).toEqual([[true, []]]);
    expect(container.notes.join(" ")).toContain("Behind its end stands something else");
  });

  it("keeps no folder of its name, and a name of the older set of letters", () => {
    const names = [
      [Buffer.from("../../etc/a.txt"), "/a.txt"],
      [Buffer.from(".."), "/x.txt"],
      [Buffer.from("Caf\xe9.txt", "latin1"), "/Café.txt"],
    ] as const;
    for (const [name, wanted] of names) expect(open(gzipNamed(lines(5, 2), name, 0), "x.txt.gz").records[0]?.path).toBe(wanted);
  });

  it("is never called whole where it is damaged or cut off, and says so", () => {
    const plain = lines(20_000, 3);
    const packed = gzipSync(plain);
    const random = seeded(11);
    for (let turn = 0; turn < 40; turn += 1) {
      const at = 20 + Math.floor(random() * (packed.length - 40));
      const isCut = turn % 2 === 1;
      const bytes = Buffer.concat(
        isCut ? [packed.subarray(0, at)] : [packed.subarray(0, at), Buffer.alloc(9, turn), packed.subarray(at + 9)],
      );
      if (bytes.equals(packed)) continue;
      const { container, records } = open(bytes, "members.csv.gz");
      expect(records.some(isWhole)).toBe(false);
      expect(records.every(({ notes }) => notes.length > 0)).toBe(true);
      // What comes before the first damage is right, but for what the damaged block gave before it made no sense.
      const [first] = records;
      if (first) expect(contentOf(container.disk, first).subarray(0, 100)).toEqual(plain.subarray(0, Math.min(100, first.size)));
    }
  });

  it("gives what stands behind damage under names of its own, with the extension", () => {
    const members = [lines(3000, 4), lines(3000, 5), lines(3000, 6)];
    const packed = members.map((member) => gzipSync(member));
    packed[1]?.fill(0xff, 2000, 2400);
    const { container, records } = open(Buffer.concat(packed), "log.txt.gz");
    expect(records.length).toBeGreaterThan(1);
    expect(records[0]?.path).toBe("/log.txt");
    expect(records.slice(1).every(({ name }) => /^log \(behind damage \d+\)\.txt$/.test(name))).toBe(true);
    expect(records.some(isWhole)).toBe(false);
    const all = Buffer.concat(records.map((record) => contentOf(container.disk, record)));
    expect(all.subarray(0, 3000)).toEqual(members[0]?.subarray(0, 3000));
    expect(all.subarray(-3000)).toEqual(members[2]?.subarray(-3000));
  });

  it("is read on from its end with nothing twice", () => {
    const { container } = open(gzipSync(lines(10, 7)), "a.txt.gz");
    const store = openFileSystem(
      "packed",
      container.disk,
      0,
      container.disk.size,
      viewOf({ name: "a.txt", modified: null, isSound: true, isVouched: true }),
    );
    const [batch] = [...store.readRecords(null, 1)];
    expect([...store.readRecords(batch?.resume ?? null, 1)].flatMap(({ records }) => records)).toEqual([]);
    expect(() => openFileSystem("packed", container.disk, 0, container.disk.size, "no view")).toThrow("Open the compressed file again");
  });

  it("keeps to its bounds, whatever its header says", () => {
    fc.assert(
      fc.property(fc.uint8Array({ minLength: 0, maxLength: 80 }), (tail) => {
        const bytes = Uint8Array.from([0x1f, 0x8b, 8, ...tail]);
        const { name } = readPackedName(new MemorySource(bytes), "some/folder/a.gz");
        expect(name.length).toBeGreaterThan(0);
        expect(name).not.toContain("/");
        open(bytes, "a.gz");
      }),
      { numRuns: 300 },
    );
    expect(readView('["a",null]')).toEqual({ name: "a", modified: null, isSound: false, isVouched: false });
    expect(readView("[]")).toBeNull();
  });
});
