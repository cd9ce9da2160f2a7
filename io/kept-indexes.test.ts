import { mkdtempSync, readdirSync, rmSync, utimesSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterAll, describe, expect, it } from "vitest";
import { indexesIn } from "./kept-indexes";

const work = mkdtempSync(join(tmpdir(), "compass-indexes-"));
afterAll(() => rmSync(work, { recursive: true, force: true }));

describe("indexes of large compressed files", () => {
  it("are kept in a folder that is made for them, the last ones", () => {
    const folder = join(work, "new", "unpacked");
    const kept = indexesIn(folder);
    expect(kept.load("a")).toBeNull();
    for (let i = 0; i < 40; i += 1) {
      kept.save(`key${i}`, Buffer.from(`index ${i}`));
      utimesSync(join(folder, `key${i}.index`), i, i);
    }
    kept.save("last", Buffer.from("last"));
    expect(readdirSync(folder)).toHaveLength(32);
    expect(Buffer.from(kept.load("last") ?? []).toString()).toBe("last");
    expect(kept.load("key0")).toBeNull();
  });

  it("are made again where nothing can be written", () => {
    const file = join(work, "a file");
    writeFileSync(file, "");
    const kept = indexesIn(join(file, "unpacked"));
    expect(() => kept.save("a", Buffer.from("index"))).not.toThrow();
    expect(kept.load("a")).toBeNull();
  });
});
