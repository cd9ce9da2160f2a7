import initSql, { type SqlJsStatic } from "sql.js";
import { beforeAll, describe, expect, it } from "vitest";
import { seeded } from "../../../demo/draw";
import { randomBytesOf } from "../../../tests/support/pieces-disk";
import { BlockReader } from "../../bytes/block-reader";
import { MemorySource } from "../../bytes/byte-source";
import { findPageSize } from "./page";

const SIZES = [512, 1024, 2048, 4096, 8192, 65_536];
const found = (bytes: Uint8Array) => findPageSize(new BlockReader(new MemorySource(bytes)));

// The databases are SQLite's own (the package sql.js); what a page is made of: SQLite file format, 1.6.
describe("the page size of a database whose first page is gone", () => {
  let sql: SqlJsStatic;
  beforeAll(async () => {
    sql = await initSql();
  });

  /** A database of three pages at least, with rows of about a length. */
  function made(size: number, length: number, encoding: string, seed: number): Buffer {
    const random = seeded(seed);
    const database = new sql.Database();
    try {
      database.run(`pragma page_size=${size}; pragma encoding='${encoding}'; create table t(id integer primary key, a text, b blob)`);
      const rows = Math.ceil((6 * size) / (length / 2 + 25));
      const insert = database.prepare("insert into t values(?, ?, ?)");
      for (let i = 0; i < rows; i += 1)
        insert.run([i, "x".repeat(1 + Math.floor(random() * length)), randomBytesOf(seed + i, Math.floor(random() * 20))]);
      insert.free();
      database.run("delete from t where id % 5 = 1");
      return Buffer.from(database.export());
    } finally {
      database.close();
    }
  }

  it.each(SIZES)("is %i bytes where it was, whatever the length of the rows, also where the end is cut off", (size) => {
    for (const [index, length] of [20, 200, size * 0.4, size * 0.7, size * 2.5].entries())
      for (const encoding of ["UTF-8", "UTF-16le"]) {
        const bytes = made(size, Math.ceil(length), encoding, size + index).fill(0, 0, index % 2 === 0 ? 100 : size);
        expect(found(bytes), `rows of ${length}, ${encoding}`).toBe(size);
        expect(found(bytes.subarray(0, bytes.length - Math.floor(size / 3))), `cut off, rows of ${length}, ${encoding}`).toBe(size);
      }
  });

  it("is not found in what is no database", () => {
    for (let seed = 1; seed <= 20; seed += 1) expect(found(randomBytesOf(seed, 200_000))).toBe(0);
    expect(found(new Uint8Array(1 << 20))).toBe(0);
    expect(found(Buffer.alloc(1 << 20, "\r\n\n\u0005 letters of a text"))).toBe(0);
    expect(found(new Uint8Array(3))).toBe(0);
  });
});
