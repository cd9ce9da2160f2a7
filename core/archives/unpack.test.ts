import { spawnSync } from "node:child_process";
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import { afterAll, describe, expect, it } from "vitest";
import { MemorySource, readBytes } from "../bytes/byte-source";
import { unpackWhole } from "./unpack";

const work = mkdtempSync(join(tmpdir(), "compass-unpack-"));
afterAll(() => rmSync(work, { recursive: true, force: true }));

describe("a file compressed as a whole", () => {
  const plain = Buffer.from("a line of the log\n".repeat(40_000));
  const packed = gzipSync(plain);

  it("is unpacked as the general tool packed it, in several members too (RFC 1952, 2.2)", { tags: "long" }, () => {
    const path = join(work, "log");
    writeFileSync(path, plain);
    expect(spawnSync("gzip", ["-k", path]).status).toBe(0);
    for (const bytes of [readFileSync(`${path}.gz`), Buffer.concat([packed, packed])]) {
      const found = unpackWhole(new MemorySource(bytes));
      expect(found).toMatchObject({ notes: [], doubtFrom: null });
      expect(Buffer.from(readBytes(found?.content as MemorySource, 0, plain.length))).toEqual(plain);
    }
  });

  it("whose checksum or length does not agree is in doubt from the member's beginning on, though it unpacks", () => {
    for (const back of [8, 4]) {
      const bytes = Buffer.from(packed);
      bytes[bytes.length - back] = (bytes[bytes.length - back] as number) ^ 1;
      expect(unpackWhole(new MemorySource(bytes))).toMatchObject({ doubtFrom: 0, notes: [expect.stringContaining("checksum")] });
      expect(unpackWhole(new MemorySource(Buffer.concat([packed, bytes])))).toMatchObject({ doubtFrom: plain.length });
    }
  });

  it("that is cut off is unpacked up to there, and says so", () => {
    const found = unpackWhole(new MemorySource(packed.subarray(0, packed.length - 5)));
    expect(found?.notes.join()).toContain("cut off");
    expect(found?.content.size).toBe(plain.length);
  });
});
