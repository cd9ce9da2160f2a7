import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { openFixture, RECORDS, recordsFiles } from "../../tests/support/records-truth";
import { leastTime, SLOWEST_MS } from "../../tests/support/thread-time";

const ROUNDS = Math.ceil(Number(process.env.COMPASS_MUTATIONS ?? 5000) / 250);

describe("damaged databases, logs and journals", () => {
  it.each(RECORDS)(
    `of %s are read as far as they go, ${ROUNDS} times`,
    (name) => {
      const files = recordsFiles(name);
      const drawn = seeded(name.length);
      const random = (most: number) => Math.floor(drawn() * most);
      for (let round = 0; round < ROUNDS; round += 1) {
        const damaged = new Map<string, Uint8Array>();
        for (const [file, whole] of files) {
          const bytes = Uint8Array.from(whole);
          for (let hits = 1 + random(12); hits > 0; hits -= 1) {
            // Heads of pages and of files hurt most.
            const page = random(Math.ceil(bytes.length / 512)) * 512;
            const at = Math.min(bytes.length - 1, (random(3) === 0 ? 0 : page) + random(random(2) === 0 ? 16 : 512));
            bytes[at] = random(256);
          }
          damaged.set(file, random(5) === 0 ? bytes.subarray(0, random(bytes.length)) : bytes);
        }
        let rows = 0;
        for (const { values, columns } of openFixture(damaged, true)?.rows() ?? []) {
          rows += 1;
          if (values.length > columns.length) throw new Error("a value without a column");
        }
        expect(rows).toBeLessThan(100_000);
      }
    },
    120_000,
  );
});

describe("a database made to take long", () => {
  it("of pages all of whose bytes may begin a row ends, and says that not all was looked at or gives what it found", () => {
    const files = recordsFiles("large-pages");
    const bytes = Uint8Array.from(files.get("data.db") as Buffer);
    // Heads of records within heads of records: five fields of whole numbers, over and over.
    const pattern = [9, 7, 0, 25, 1, 25, 6, 1];
    for (let page = 4; page * 65_536 < bytes.length; page += 1)
      for (let at = page * 65_536 + 8; at < (page + 1) * 65_536; at += 1) bytes[at] = pattern[at % pattern.length] as number;
    const reader = openFixture(new Map([["data.db", bytes]]), true);
    expect([...(reader?.rows() ?? [])].length).toBeGreaterThan(0);
  });

  it("of a tree of pages that lead to each other in a circle ends", () => {
    const bytes = Uint8Array.from(recordsFiles("small-pages").get("data.db") as Buffer);
    for (let page = 1; page * 512 < bytes.length; page += 1) {
      const at = page * 512;
      if (bytes[at] !== 5) continue;
      new DataView(bytes.buffer).setUint32(at + 8, page + 1);
    }
    expect([...(openFixture(new Map([["data.db", bytes]]), true)?.rows() ?? [])].length).toBeGreaterThan(0);
  });

  it("that claims to have millions of pages is gone through no further than its files reach, and says that they are missing", () => {
    const whole = recordsFiles("small-pages").get("data.db") as Buffer;
    const rowsOf = (bytes: Uint8Array) => {
      const reader = openFixture(new Map([["data.db", bytes]]), true);
      return { rows: [...(reader?.rows() ?? [])].length, notes: reader?.notes ?? [] };
    };
    const sound = rowsOf(whole);
    for (const pages of [0x0400_0000, 0x7fff_ffff, 0xffff_ffff]) {
      const bytes = Buffer.from(whole);
      // The number counts where the change counter is the same as that of the version (1.3.7).
      bytes.writeUInt32BE(pages, 28);
      bytes.copy(bytes, 92, 24, 28);
      const { result, time } = leastTime(() => rowsOf(bytes));
      expect(result.rows).toBe(sound.rows);
      expect(result.notes.join()).toContain(`of its ${pages} pages are missing at the end`);
      expect(time).toBeLessThan(SLOWEST_MS);
    }
  });

  it("whose pages above the leaves point to a cell at their very end is read without a list of tables", () => {
    const whole = recordsFiles("small-pages").get("data.db") as Buffer;
    const size = whole.readUInt16BE(16);
    for (let fromEnd = 1; fromEnd <= 5; fromEnd += 1) {
      const bytes = Buffer.from(whole);
      bytes[100] = 0;
      let changed = 0;
      for (let at = size; at < bytes.length; at += size) {
        // An inner page of a table or of an index (SQLite file format, 1.6).
        if (bytes[at] !== 5 && bytes[at] !== 2) continue;
        bytes.writeUInt16BE(size - fromEnd, at + 12);
        changed += 1;
      }
      expect(changed).toBeGreaterThan(0);
      const rows = [...(openFixture(new Map([["data.db", bytes]]), true)?.rows() ?? [])];
      expect(rows.length).toBeGreaterThan(10);
    }
  });
});
