import { describe, expect, it } from "vitest";
import { randomBytesOf } from "../../../tests/support/pieces-disk";
import { fixture } from "../../../tests/support/volume-truth";
import { BlockReader } from "../../bytes/block-reader";
import { MemorySource } from "../../bytes/byte-source";
import { runCheck, runFollow } from "../registry";
import { isTreePage } from "./page";
import { missingPages, sqliteFormats } from "./sqlite";

/** Truth: databases that SQLite made and found sound, and the layout of its file format. */
const { databases } = JSON.parse(fixture("databases.json.gz").toString()) as {
  databases: { name: string; page: number; autoVacuum: boolean; content: string }[];
};
const all = databases.map(({ content, ...rest }) => ({ ...rest, bytes: Buffer.from(content, "base64") }));
const sqlite = sqliteFormats.find(({ id }) => id === "sqlite");
if (!sqlite) throw new Error("The format is gone.");
const check = (bytes: Uint8Array) => runCheck(sqlite, new MemorySource(bytes));

const foreign = (length: number, seed: number) => [
  randomBytesOf(seed, length),
  Buffer.alloc(length),
  Buffer.alloc(length, "letters of a text, \n"),
];
const withPage = (bytes: Uint8Array, page: number, number: number, content: Uint8Array) => {
  const changed = Buffer.from(bytes);
  changed.set(content, (number - 1) * page);
  return changed;
};

describe.each(all)("a database with $name", ({ page, bytes }) => {
  const count = bytes.length / page;

  it("is sound as SQLite left it", () => {
    expect(check(bytes)).toEqual({ verdict: "sound" });
  });

  it("says of a page that is another file's where it stands, and that it is not there", () => {
    const seen: number[] = [];
    for (let number = 3; number <= count; number += 1) {
      const changed = withPage(bytes, page, number, randomBytesOf(number, page));
      const verdict = check(changed);
      // Bytes of a long text, and free pages, have no check.
      if (verdict.verdict !== "damaged") continue;
      expect(verdict.at, `page ${number}`).toBeGreaterThanOrEqual((number - 1) * page);
      const missing = missingPages(new BlockReader(new MemorySource(changed))).missing.map((each) => each.page);
      if (missing.length === 0) continue;
      seen.push(number);
      expect(missing).toContain(number);
      const [first] = missingPages(new BlockReader(new MemorySource(changed))).missing;
      if (!first) continue;
      // The right page is known by what the pages above it say; that of another place is not.
      const own = bytes.subarray((first.page - 1) * page, first.page * page);
      if (own[0] === 13 || own[0] === 10) expect(isTreePage(own, page, own[0] === 13, first.over, first.most)).toBe(true);
    }
    expect(seen.length).toBeGreaterThan(count / 4);
  });

  it("says where it begins, of all that stands behind a place", () => {
    for (let number = 4; number < count; number += Math.max(1, Math.floor(count / 12))) {
      const at = (number - 1) * page;
      const changed = Buffer.concat([bytes.subarray(0, at), randomBytesOf(number, bytes.length - at)]);
      const verdict = check(changed);
      if (verdict.verdict !== "damaged") throw new Error(`page ${number}: ${verdict.verdict}`);
      expect(verdict.at).toBeGreaterThanOrEqual(at);
    }
  });
});

describe("a database with pointer maps", () => {
  it.each(all.filter(({ autoVacuum }) => autoVacuum))("is not sound with anything else in the place of one: $name", ({ page, bytes }) => {
    const count = bytes.length / page;
    const entries = Math.floor(page / 5);
    const maps = Array.from({ length: count }, (_, i) => i + 1).filter((number) => (number - 2) % (entries + 1) === 0);
    expect(maps[0]).toBe(2);
    for (const number of maps)
      for (const content of foreign(page, number))
        expect(check(withPage(bytes, page, number, content)).verdict, `page ${number}`).toBe("damaged");
  });
});

it("a page to which a row spills over is not sound with another file's bytes in it, though nothing but its first bytes shows that", () => {
  let [noticed, last] = [0, 0];
  for (const { page, bytes } of all)
    for (let number = 3; number <= bytes.length / page; number += 1) {
      const at = (number - 1) * page;
      // The last page of a chain begins with no further page, and with letters of the text.
      if (bytes.readUInt32BE(at) !== 0 || !/[a-zA-Z ]{8}/.test(bytes.toString("latin1", at + 4, at + 12))) continue;
      last += 1;
      if (check(withPage(bytes, page, number, randomBytesOf(number, page))).verdict === "damaged") noticed += 1;
    }
  expect(last).toBeGreaterThan(5);
  expect(noticed).toBe(last);
});

it("all pages in which other bytes go unnoticed are counted as such that nothing checks", () => {
  let unnoticed = 0;
  for (const { page, bytes, name } of all) {
    const counted = runFollow(sqlite, new MemorySource(bytes))?.unfollowed ?? 0;
    let here = 0;
    for (let number = 2; number <= bytes.length / page; number += 1) {
      const at = (number - 1) * page;
      // What leads on stays: of a page to which a row spills over, and of the list of free pages, that is checked.
      const content = Buffer.concat([bytes.subarray(at, at + 4), randomBytesOf(number, page - 4)]);
      if (check(withPage(bytes, page, number, content)).verdict === "sound") here += 1;
    }
    expect(here * page, name).toBeLessThanOrEqual(counted);
    unnoticed += here;
  }
  expect(unnoticed).toBeGreaterThan(20);
});

describe("any bytes", () => {
  it("are no page of a tree, and never crash what looks", () => {
    for (let seed = 1; seed <= 2000; seed += 1) {
      const bytes = Buffer.from(randomBytesOf(seed, 512));
      bytes[0] = [2, 5, 10, 13][seed % 4] as number;
      bytes[3] = 0;
      bytes[4] = seed % 7;
      expect(isTreePage(bytes, 512, seed % 2 === 0, Number.NEGATIVE_INFINITY, Number.POSITIVE_INFINITY)).toBe(false);
    }
  });
});
