import { strToU8, zipSync } from "fflate";
import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { readBackup, sha256 } from "../../tests/support/backup-truth";

// Archives by fflate (APPNOTE, 4.3); the damage by script.

/** An archive that holds another one as it is, between files. */
function drawn(seed: number) {
  const random = seeded(seed);
  const next = (below: number) => Math.floor(random() * below);
  const file = () => Uint8Array.from({ length: 40 + next(2000) }, () => next(256));
  const inner = zipSync(Object.fromEntries(Array.from({ length: 2 + next(4) }, (_, i) => [`page ${i}.txt`, file()])), { level: 0 });
  const files = Object.fromEntries(Array.from({ length: 3 + next(6) }, (_, i) => [`letter ${i}.txt`, file()]));
  const names = Object.keys(files);
  const before = names.slice(0, next(names.length - 1));
  const of = (chosen: readonly string[]) => Object.fromEntries(chosen.map((name) => [name, files[name] as Uint8Array]));
  const behind = names.filter((name) => !before.includes(name));
  const zip = Buffer.from(zipSync({ ...of(before), "pages.zip": inner, ...of(behind) }, { level: 0 }));
  const at = zip.indexOf(inner.subarray(0, 64));
  return { next, zip, at, inner, files, list: zip.indexOf("PK\x01\x02", at + inner.length) };
}

const wholeIn = (bytes: Buffer) =>
  new Map(
    readBackup(bytes, true).flatMap(({ copy, sha256: hash }) => (copy.condition === "whole" && copy.size > 0 ? [[copy.path, hash]] : [])),
  );

describe("an archive that lies damaged in another one", () => {
  it.each(["", " and the list of contents is gone"])("hides no member behind it where bytes of it are missing%s", (gone) => {
    for (let seed = 1; seed <= 40; seed += 1) {
      const { next, zip, at, inner, files, list } = drawn(seed);
      if (gone) zip.fill(0, list);
      // From somewhere in it, up to its very end.
      const from = at + 40 + next(inner.length - 40);
      const cut = 1 + next(at + inner.length - from);
      const whole = wholeIn(Buffer.concat([zip.subarray(0, from), zip.subarray(from + cut)]));
      for (const [name, bytes] of Object.entries(files)) expect(whole.get(`/${name}`), `${seed}: ${name}`).toBe(sha256(bytes));
    }
  });

  it("keeps its own members where its end stands", () => {
    for (let seed = 100; seed < 140; seed += 1) {
      const { next, zip, at, inner, files, list } = drawn(seed);
      zip.fill(0, list);
      // The first byte of the first member's data, and some behind a header of its own.
      zip[at + 45] = (zip[at + 45] as number) ^ 0xff;
      const slipped = at + 41 + next(30);
      const bytes = next(2) === 0 ? zip : Buffer.concat([zip.subarray(0, slipped), Buffer.alloc(1 + next(9)), zip.subarray(slipped)]);
      expect([...wholeIn(bytes).keys()].sort(), `${seed}`).toEqual(
        Object.keys(files)
          .map((name) => `/${name}`)
          .sort(),
      );
      expect(inner.length).toBeGreaterThan(200);
    }
  });
});

describe("what is left of a small archive", () => {
  it("is an archive still where the longest member has lost its beginning and the list of contents is gone", () => {
    const files = { "one.txt": strToU8("one ".repeat(40)), "two.txt": strToU8("two ".repeat(50)) };
    const zip = Buffer.from(zipSync({ "long.bin": Uint8Array.from({ length: 90_000 }, (_, i) => (i * i) % 251), ...files }, { level: 0 }));
    const whole = wholeIn(zip.subarray(5000, zip.indexOf("PK\x01\x02")));
    for (const [name, bytes] of Object.entries(files)) expect(whole.get(`/${name}`)).toBe(sha256(bytes));
  });
});
