import { mkdtempSync, statSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterEach, describe, expect, it, vi } from "vitest";
import { MemorySource } from "../core/bytes/byte-source";
import type { Layout } from "../core/bytes/layout";
import { NO_FACTS } from "../core/restore/carried";
import type { NamedStream } from "../core/restore/two-files";
import { carry } from "./carry";
import { readStreamAttributes } from "./stream-attributes";

const files = (...names: string[]) => {
  const folder = mkdtempSync(join(tmpdir(), "compass-carry-"));
  for (const name of names) writeFileSync(join(folder, name), name);
  return folder;
};

describe("what a file is given beside its content", () => {
  afterEach(() => vi.unstubAllEnvs());

  it("a date no file system counts, or a file that is gone, harms no other file: it is not said to stand there", () => {
    const folder = files("far.txt", "near.txt");
    const facts = (modified: number, created: number | null = null) => ({ ...NO_FACTS, modified, created, readOnly: true });
    const carried = carry(folder, [
      { file: "far.txt", facts: facts(8.64e15, 8.64e15) },
      { file: "gone.txt", facts: facts(1_600_000_000_000) },
      { file: "near.txt", facts: facts(1_600_000_000_000, -8.64e15) },
    ]);
    expect(carried.map(({ modified, readOnly, created }) => [modified, readOnly, created])).toEqual([
      [false, true, false],
      [false, false, false],
      [true, true, false],
    ]);
    expect(statSync(join(folder, "near.txt")).mtimeMs).toBe(1_600_000_000_000);
  });

  it("without the system's tools nothing is said to be kept, and dates and “read only” are all the same", async () => {
    vi.stubEnv("PATH", files());
    vi.resetModules();
    const { carry: carryNow } = await import("./carry");
    const { hasAttributeTools } = await import("./own-attributes");
    expect(hasAttributeTools()).toBe(false);
    const attributes = [{ stream: "a", name: "user.a", value: Buffer.from("x") }];
    const folder = files("a.txt");
    const facts = { modified: 1_600_000_000_000, created: 0, readOnly: true, hidden: true, attributes };
    expect(carryNow(folder, [{ file: "a.txt", facts }])).toEqual([
      { modified: true, readOnly: true, hidden: false, created: false, streams: [] },
    ]);
  });
});

describe("streams that are kept with a file", () => {
  const disk = new MemorySource(Buffer.alloc(4 << 20, 7));
  const layout = (length: number, at = 0): Layout => ({ size: length, segments: [{ kind: "disk", at, length }] });
  const stream = (name: string, size: number, where: Layout | null = layout(size)): NamedStream => ({ name, size, layout: where });
  const kept = (...streams: NamedStream[]) => readStreamAttributes(disk, streams).map((each) => each.stream);

  it("are those of which every byte is there, each name once", () => {
    expect(
      kept(stream("a", 3), stream("b", 0, null), stream("c", 3, null), stream("rsrc", 2), stream("com.apple.ResourceFork", 2)),
    ).toEqual(["a", "b", "rsrc"]);
    expect(kept(stream("short", 10, layout(9)), stream("behind", 10, layout(10, (4 << 20) - 5)))).toEqual([]);
    expect(kept(stream("large", 65_537), stream("fits", 65_536))).toEqual(["fits"]);
  });

  it("take 1 MiB a file at most, however many there are", () => {
    const many = Array.from({ length: 5_000 }, (_, index) => stream(`s${index}`, 65_536));
    expect(kept(...many)).toHaveLength(16);
  });
});
